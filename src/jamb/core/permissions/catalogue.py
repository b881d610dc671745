"""The catalogue of one resource: operations, permissions, what unlocks what and what implies what.

Scopes are permission names (RFC 6749 section 3.3). Implication has no cycles; E(p), the operations unlocked by a
permission and by all it implies, is computed once per catalogue.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from jamb.core.errors import Unsuited, Violation, shorten
from jamb.core.text import NOT_SEEN

# RFC 6749 section 3.3 allows more; we keep names that survive shells, logs and forms.
PERMISSION_NAME = re.compile(r"[a-z][a-z0-9]*(?:[.-][a-z0-9]+)*\Z")
NAME_LONGEST = 80
METHOD = re.compile(r"[A-Z]{3,10}\Z")
PATH_TEMPLATE = re.compile(rf"/[^\s?#{NOT_SEEN}]*\Z")
OBJECT_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9_]{0,39}\Z")


class Effect(StrEnum):
    READ = "read"
    WRITE = "write"
    CONTROL = "control"


class DataClass(StrEnum):
    OPEN = "open"
    INTERNAL = "internal"
    PERSONAL = "personal"
    RESTRICTED = "restricted"


class ConsentBy(StrEnum):
    """Who may consent to a delegated permission: each person for themselves, or only an administrator."""

    PERSON = "person"
    ADMINISTRATOR = "administrator"


class AccessKind(StrEnum):
    """application: the client acts as itself. delegated: it acts for a signed-in person."""

    APPLICATION = "application"
    DELEGATED = "delegated"


@dataclass(frozen=True, slots=True)
class Operation:
    """Something a resource can do: a method and a path template, with its effect and the class of data it touches.

    What is not called by a path has neither method nor path: its name is all there is.
    """

    name: str
    title: str
    method: str
    path: str
    effect: Effect
    data_class: DataClass


@dataclass(frozen=True, slots=True)
class Permission:
    """A name that unlocks operations and may imply smaller permissions of the same resource.

    Attributes:
        consent_by: who may consent to it when it is delegated.
        text: what an administrator should know of it before saying yes.
        person_text: the same for the person on whose behalf it is used.
    """

    name: str
    title: str
    kinds: frozenset[AccessKind]
    unlocks: frozenset[str]
    implies: frozenset[str] = frozenset()
    consent_by: ConsentBy = ConsentBy.ADMINISTRATOR
    text: str = ""
    person_text: str = ""


@dataclass(frozen=True)
class Catalogue:
    """One resource's operations and permissions, proven sound on construction.

    Attributes:
        object_name: what one object of the resource is called ("berth"): the path parameter by which operations name
            the object that reach is about. Empty: reach does not apply here.

    Raises:
        BadInput: a malformed or repeated name, a dangling name, a cycle, a permission that unlocks nothing,
            or two operations that match the same request. All faults are collected first.
    """

    name: str
    title: str
    identifier: str
    operations: Mapping[str, Operation]
    permissions: Mapping[str, Permission]
    object_name: str = ""
    _closures: dict[str, frozenset[str]] = field(init=False, repr=False, compare=False, default_factory=dict)
    _opened: dict[str, frozenset[str]] = field(init=False, repr=False, compare=False, default_factory=dict)
    _bounded: set[str] = field(init=False, repr=False, compare=False, default_factory=set)
    _unlockers: dict[str, tuple[str, ...]] = field(init=False, repr=False, compare=False, default_factory=dict)
    _openers: dict[str, frozenset[str]] = field(init=False, repr=False, compare=False, default_factory=dict)

    def __post_init__(self) -> None:
        faults = [*self._dangling(), *self._malformed(), *self._ambiguous(), *self._kindless()]
        if self.object_name:
            parameter = "{" + self.object_name + "}"
            self._bounded.update(name for name, item in self.operations.items() if parameter in item.path)
        if not faults:
            faults = self._close()
        if faults:
            raise Unsuited(f"The catalogue of {shorten(self.name)} is not sound.", violations=tuple(faults))
        self._index()

    @classmethod
    def of(
        cls,
        name: str,
        title: str,
        identifier: str,
        operations: Iterable[Operation],
        permissions: Iterable[Permission],
        object_name: str = "",
    ) -> Catalogue:
        """Build from sequences; a repeated name is refused rather than silently overwritten."""
        faults: list[Violation] = []
        by_name: dict[str, Operation] = {}
        for operation in operations:
            if operation.name in by_name:
                faults.append(_fault("operations", operation.name, "each operation named once"))
            by_name[operation.name] = operation
        permission_by_name: dict[str, Permission] = {}
        for permission in permissions:
            if permission.name in permission_by_name:
                faults.append(_fault("permissions", permission.name, "each permission named once"))
            permission_by_name[permission.name] = permission
        if faults:
            raise Unsuited(f"The catalogue of {shorten(name)} is not sound.", violations=tuple(faults))
        return cls(name, title, identifier, by_name, permission_by_name, object_name)

    def closure(self, permission: str) -> frozenset[str]:
        """Return the permission and all it implies, directly or not. Unknown names imply nothing."""
        return self._closures.get(permission, frozenset())

    def opened_by(self, permission: str) -> frozenset[str]:
        """Return E(p): names of the operations that the permission opens, itself or by what it implies."""
        return self._opened.get(permission, frozenset())

    def opened_by_all(self, permissions: Iterable[str]) -> frozenset[str]:
        return frozenset().union(*(self.opened_by(name) for name in permissions))

    def concerns_object(self, operation: str) -> bool:
        """Tell whether a request for this operation names an object, so that reach decides over it."""
        return operation in self._bounded

    def openers(self, operation: str) -> frozenset[str]:
        """Return the permissions whose E contains the operation. None opens an unknown one."""
        return self._openers.get(operation, frozenset())

    def unlockers(self, operation: str, kind: AccessKind | None = None) -> tuple[str, ...]:
        """Return the permissions whose E contains the operation, those that open least else first."""
        names = self._unlockers.get(operation, ())
        if kind is None:
            return names
        return tuple(name for name in names if kind in self.permissions[name].kinds)

    def _dangling(self) -> list[Violation]:
        faults = []
        for permission in self.permissions.values():
            for name in sorted(permission.unlocks - self.operations.keys()):
                faults.append(_fault(f"permissions.{permission.name}.unlocks", name, "an operation of this resource"))
            for name in sorted(permission.implies - self.permissions.keys()):
                faults.append(_fault(f"permissions.{permission.name}.implies", name, "a permission of this resource"))
        return faults

    def _malformed(self) -> list[Violation]:
        allowed = f"lower-case words joined by dots or hyphens, at most {NAME_LONGEST} characters"
        faults = [
            _fault(where, name, allowed)
            for where, names in (("permissions", self.permissions), ("operations", self.operations))
            for name in names
            if len(name) > NAME_LONGEST or not PERMISSION_NAME.match(name)
        ]
        for item in self.operations.values():
            if bool(item.method) != bool(item.path):
                faults.append(
                    _fault(f"operations.{item.name}", f"{item.method}{item.path}", "a method and a path, or neither")
                )
            elif item.path and not PATH_TEMPLATE.match(item.path):
                faults.append(
                    _fault(f"operations.{item.name}.path", item.path, "a path that starts with /, with {names}")
                )
            elif item.method and not METHOD.match(item.method):
                faults.append(_fault(f"operations.{item.name}.method", item.method, "a method in capitals, as GET"))
        if self.object_name and not OBJECT_NAME.match(self.object_name):
            faults.append(_fault("object_name", self.object_name, "a path parameter, as in /berths/{berth}"))
        return faults

    def _kindless(self) -> list[Violation]:
        return [
            _fault(f"permissions.{item.name}.kinds", "none", "delegated, application, or both")
            for item in self.permissions.values()
            if not item.kinds
        ]

    def _ambiguous(self) -> list[Violation]:
        """Find pairs that match the same request with neither more concrete (OpenAPI 3.1 section 4.8.8)."""
        alike: dict[tuple[str, int], list[tuple[str, list[str]]]] = {}
        faults = []
        for operation in self.operations.values():
            if not operation.path:
                continue
            parts = ["" if part.startswith("{") else part for part in operation.path.split("/")[1:]]
            others = alike.setdefault((operation.method.upper(), len(parts)), [])
            for name, other in others:
                if _clash(parts, other):
                    where = f"operations.{operation.name}.path"
                    faults.append(_fault(where, operation.path, f"not the same requests as {name}'s"))
            others.append((operation.name, parts))
        return faults

    def _close(self) -> list[Violation]:
        for name in self.permissions:
            cycle = self._visit(name, ())
            if cycle:
                return [_fault(f"permissions.{name}.implies", " → ".join(cycle), "no cycle")]
        faults = []
        for name, members in self._closures.items():
            self._opened[name] = frozenset().union(*(self.permissions[member].unlocks for member in members))
            if not self._opened[name]:
                faults.append(_fault(f"permissions.{name}.unlocks", "nothing", "at least one operation"))
        return faults

    def _index(self) -> None:
        """Note for each operation what unlocks it: refusals and pages ask for that often."""
        by_operation: dict[str, list[str]] = {}
        for name in sorted(self._opened, key=lambda one: (len(self._opened[one]), one)):
            for operation in self._opened[name]:
                by_operation.setdefault(operation, []).append(name)
        self._unlockers.update((operation, tuple(names)) for operation, names in by_operation.items())
        self._openers.update((operation, frozenset(names)) for operation, names in by_operation.items())

    def _visit(self, name: str, trail: tuple[str, ...]) -> tuple[str, ...]:
        """Fill the closure of `name`, depth first; return the cycle met on the way, if any."""
        if name in trail:
            return (*trail[trail.index(name) :], name)
        if name in self._closures:
            return ()
        members = {name}
        for implied in self.permissions[name].implies:
            cycle = self._visit(implied, (*trail, name))
            if cycle:
                return cycle
            members |= self._closures[implied]
        self._closures[name] = frozenset(members)
        return ()


def _clash(one: list[str], other: list[str]) -> bool:
    """Tell whether two templates (variables as empty parts) share a request and neither is the more concrete."""
    pairs = list(zip(one, other, strict=True))
    if any(left and right and left != right for left, right in pairs):
        return False
    return any(left and not right for left, right in pairs) is any(right and not left for left, right in pairs)


def _fault(where: str, sent: str, allowed: str) -> Violation:
    return Violation(where, shorten(sent), allowed, "Correct the catalogue and publish it again.")
