"""Reach: everywhere, only these collections, or all but these; and what several of them cover together."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from enum import StrEnum

from jamb.core.errors import Unsuited
from jamb.core.reach.collections import CollectionTree


class ReachKind(StrEnum):
    EVERYWHERE = "everywhere"
    ONLY = "only"
    ALL_BUT = "all-but"


@dataclass(frozen=True, slots=True)
class Reach:
    """Where a grant or a role counts. `collections` are paths; everywhere has none, the others at least one."""

    kind: ReachKind = ReachKind.EVERYWHERE
    collections: frozenset[str] = frozenset()

    @classmethod
    def of(cls, kind: ReachKind, collections: Iterable[str] = ()) -> Reach:
        """Build one, or raise `Unsuited`."""
        paths = frozenset(collections)
        if kind is ReachKind.EVERYWHERE and paths:
            raise Unsuited.field("reach.collections", ", ".join(sorted(paths)), "none, when it reaches everywhere")
        if kind is not ReachKind.EVERYWHERE and not paths:
            raise Unsuited.field("reach.collections", "nothing", f"at least one collection for “{kind.value}”")
        return cls(kind, paths)

    @classmethod
    def only(cls, *paths: str) -> Reach:
        return cls(ReachKind.ONLY, frozenset(paths))

    @classmethod
    def all_but(cls, *paths: str) -> Reach:
        return cls(ReachKind.ALL_BUT, frozenset(paths))

    def contains(self, within: Iterable[str]) -> bool:
        """Tell whether an object that lies in these collections is reached. In none: only by what is not `only`."""
        if self.kind is ReachKind.EVERYWHERE:
            return True
        return self.collections.isdisjoint(within) is (self.kind is ReachKind.ALL_BUT)

    def counts_for(self, collection: str | None) -> bool:
        """Tell whether it counts for what lies in one collection alone; None: for what lies nowhere in particular, as
        everywhere does alone.
        """
        return self.kind is ReachKind.EVERYWHERE or (collection is not None and self.contains((collection,)))

    @property
    def words(self) -> str:
        """Say it as part of a sentence: "only north, fuel"."""
        return self.called({})

    def called(self, names: Mapping[str, str]) -> str:
        """Say it so, with the names of collections whose paths say nothing to people."""
        listed = ", ".join(sorted(names.get(path, path) for path in self.collections))
        if self.kind is ReachKind.EVERYWHERE:
            return "everywhere"
        return f"only {listed}" if self.kind is ReachKind.ONLY else f"all but {listed}"


EVERYWHERE = Reach()


@dataclass(frozen=True, slots=True)
class Coverage:
    """What some reaches cover together: known objects, and whether objects in no collection are covered too."""

    objects: frozenset[str] = frozenset()
    uncollected: bool = False

    def __le__(self, other: Coverage) -> bool:
        return self.objects <= other.objects and self.uncollected <= other.uncollected

    def __bool__(self) -> bool:
        return bool(self.objects) or self.uncollected

    def beyond(self, other: Coverage | None) -> Coverage:
        """Return what is covered here and not there."""
        if other is None:
            return self
        return Coverage(self.objects - other.objects, self.uncollected and not other.uncollected)

    def share(self, tree: CollectionTree) -> float:
        """Return the share of the known objects that is covered, 0 to 1; where none are known, all or nothing."""
        if tree.everything:
            return len(self.objects) / len(tree.everything)
        return 1.0 if self.uncollected else 0.0


def coverage(tree: CollectionTree, reaches: Iterable[Reach]) -> Coverage:
    objects: frozenset[str] = frozenset()
    uncollected = False
    for reach in reaches:
        listed = frozenset().union(*(tree.members(path) for path in reach.collections))
        objects |= listed if reach.kind is ReachKind.ONLY else tree.everything - listed
        uncollected = uncollected or reach.kind is not ReachKind.ONLY
    return Coverage(objects, uncollected)


def overlap(one: Reach, other: Reach, tree: CollectionTree) -> Reach | None:
    """Return a reach within both, exact in collections that exist; None when they share nothing.

    Where "all but" cuts through a collection that the other names, the collections below are named instead.
    """
    if one.kind is ReachKind.EVERYWHERE:
        return other
    if other.kind is ReachKind.EVERYWHERE:
        return one
    if one.kind is other.kind is ReachKind.ALL_BUT:
        return Reach(ReachKind.ALL_BUT, one.collections | other.collections)
    both = (coverage(tree, [one]).objects) & (coverage(tree, [other]).objects)
    inside = {path for path in tree.collections if tree.members(path) and tree.members(path) <= both}
    widest = {path for path in inside if not any(path.startswith(above + "/") for above in inside)}
    return Reach(ReachKind.ONLY, frozenset(widest)) if widest else None
