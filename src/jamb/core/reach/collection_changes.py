"""Changed collections, kept to what those whose reach names them were consented: fewer objects act, more wait."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

from jamb.core.reach.collections import CollectionTree, ancestors
from jamb.core.reach.reach import Reach, ReachKind


def kept_within(before: CollectionTree, after: CollectionTree, reaches: Iterable[Reach]) -> CollectionTree:
    """Return `after` without whatever would let one of the reaches hold objects that it did not hold in `before`.

    What a reach names alone gains nothing; what it leaves out loses nothing. A collection that follows the same rule
    as before was consented to as such, and so is "everywhere". Paths that `after` lacks stay away.
    """
    named, left_out = set[str](), set[str]()
    for reach in reaches:
        (named if reach.kind is ReachKind.ONLY else left_out).update(reach.collections)
    collections = dict(after.collections)
    for path in sorted(named & collections.keys()):
        gained = after.members(path) - before.members(path)
        for inside, one in collections.items():
            if inside == path or inside.startswith(path + "/"):
                around = [above for above in ancestors(inside) if len(above) >= len(path)]
                if not any(_follows(before, after, above) for above in around):
                    was = before.collections[inside].rule if inside in before.collections else ""
                    collections[inside] = replace(one, objects=one.objects - gained, rule=was)
    # Only now: what was kept out of one collection may have left another by that.
    reduced = CollectionTree.of(collections.values())
    for path in sorted(left_out & collections.keys()):
        if not _follows(before, after, path):
            lost = before.members(path) - reduced.members(path)
            collections[path] = replace(collections[path], objects=collections[path].objects | lost)
    return CollectionTree.of(collections.values())


def _follows(before: CollectionTree, after: CollectionTree, path: str) -> bool:
    """Tell whether a collection follows a rule, the same before and after."""
    known = before.collections.get(path)
    return known is not None and bool(known.rule) and known.rule == after.collections[path].rule
