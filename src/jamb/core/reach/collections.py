"""Collections: named sets of a resource's objects, in a tree of paths.

A path is words joined by slashes; "north/inner" lies in "north". A collection holds its own objects and all of those
below it. An object may lie in several collections, or in none.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property

from jamb.core.errors import Unsuited, Violation, shorten
from jamb.core.text import name_fault

PATH = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*(?:/[a-z0-9]+(?:-[a-z0-9]+)*)*\Z")
PATH_LONGEST = 120
RULE_LONGEST = 200
OBJECT_LONGEST = 200
MOST_OBJECTS = 100_000


@dataclass(frozen=True, slots=True)
class Collection:
    """One named set; `objects` are its own, without those of the collections below it.

    `rule`: in words, which objects lie in it, where those change by a rule and not by somebody's decision. Whoever
    consents to a reach over it consents to whatever the rule will put there.
    """

    path: str
    title: str
    objects: frozenset[str] = frozenset()
    rule: str = ""


@dataclass(frozen=True)
class CollectionTree:
    """All collections of one resource, proven sound on construction.

    Raises:
        BadInput: a malformed or repeated path, a path whose parent is missing, an unfit object. All are collected.
    """

    collections: Mapping[str, Collection] = field(default_factory=dict)

    @classmethod
    def of(cls, collections: Iterable[Collection]) -> CollectionTree:
        faults: list[Violation] = []
        by_path: dict[str, Collection] = {}
        for one in collections:
            if one.path in by_path:
                faults.append(_fault(one.path, "each path once"))
            by_path[one.path] = one
        for path, one in by_path.items():
            faults.extend(_faults_of(path, one, by_path))
        if sum(len(one.objects) for one in by_path.values()) > MOST_OBJECTS:
            faults.append(_fault("the objects together", f"at most {MOST_OBJECTS} in all collections"))
        if faults:
            raise Unsuited("These collections cannot be saved as they are.", violations=tuple(faults[:20]))
        return cls(dict(sorted(by_path.items())))

    @cached_property
    def everything(self) -> frozenset[str]:
        """Every object that lies in any collection."""
        return frozenset().union(*(one.objects for one in self.collections.values()))

    @cached_property
    def growing(self) -> frozenset[str]:
        """The collections whose objects change by a rule, or those of one below them."""
        return frozenset(above for path, one in self.collections.items() if one.rule for above in ancestors(path))

    @cached_property
    def _places(self) -> dict[str, set[str]]:
        places: dict[str, set[str]] = {}
        for path, one in self.collections.items():
            around = ancestors(path)
            for name in one.objects:
                places.setdefault(name, set()).update(around)
        return places

    @cached_property
    def _members(self) -> dict[str, frozenset[str]]:
        members: dict[str, set[str]] = {path: set() for path in self.collections}
        for path, one in self.collections.items():
            for above in ancestors(path):
                members[above] |= one.objects
        return {path: frozenset(objects) for path, objects in members.items()}

    def members(self, path: str) -> frozenset[str]:
        """Return the objects of a collection and of all below it; of an unknown path, none."""
        return self._members.get(path, frozenset())

    def where(self, name: str) -> tuple[str, ...]:
        """Return the collections that hold the object, the smallest first."""
        return tuple(sorted(self._places.get(name, ()), key=lambda path: (len(self.members(path)), path)))

    def require(self, field_name: str, paths: Iterable[str]) -> None:
        """Raise `BadInput` naming every path that is not a collection here."""
        known = ", ".join(list(self.collections)[:12]) or "none: this resource has no collections yet"
        unknown = [path for path in paths if path not in self.collections]
        if unknown:
            raise Unsuited(
                f"{', '.join(map(shorten, unknown))}: no such collection.",
                violations=tuple(
                    Violation(field_name, shorten(path), f"a collection: {known}", "Look through the collections.")
                    for path in unknown
                ),
            )


NO_COLLECTIONS = CollectionTree()


def ancestors(path: str) -> tuple[str, ...]:
    """Return the path and all above it: "a/b/c" gives "a", "a/b", "a/b/c"."""
    parts = path.split("/")
    return tuple("/".join(parts[:length]) for length in range(1, len(parts) + 1))


def _faults_of(path: str, one: Collection, known: Mapping[str, Collection]) -> Iterable[Violation]:
    if len(path) > PATH_LONGEST or not PATH.match(path):
        yield _fault(path, f"lower-case words joined by hyphens and slashes, at most {PATH_LONGEST} characters")
        return
    for above in ancestors(path)[:-1]:
        if above not in known:
            yield _fault(path, f"a collection {above} that it lies in", "Add it first, or give this one another path.")
    if len(one.rule) > RULE_LONGEST or (one.rule and not one.rule.isprintable()):
        yield Violation(f"collections.{path}.rule", shorten(one.rule), f"at most {RULE_LONGEST} printable characters")
    for name in one.objects:
        if not name or len(name) > OBJECT_LONGEST or name_fault(name) or name != name.strip():
            yield Violation(
                f"collections.{path}.objects", shorten(name), f"1 to {OBJECT_LONGEST} printable characters, trimmed"
            )


def _fault(sent: str, allowed: str, next_step: str = "Correct the list and send it again.") -> Violation:
    return Violation("collections", shorten(sent), allowed, next_step)
