"""What a change of permissions or reach makes newly possible, and what it takes away."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from jamb.core.access.standing import Holding
from jamb.core.permissions import Catalogue, weigh_operation
from jamb.core.reach import NO_COLLECTIONS, CollectionTree, Coverage, coverage


@dataclass(frozen=True, slots=True)
class ObjectCount:
    """Over how many known objects an operation is possible, before and after, of how many.

    `uncollected`: afterwards it is possible for objects that lie in no collection too.
    """

    before: int
    after: int
    known: int
    uncollected: bool


@dataclass(frozen=True, slots=True)
class Comparison:
    """Before and after, as operation names of one catalogue. Every operation possible at either time is in one part.

    Attributes:
        newly: operations possible only afterwards, wherever.
        wider: possible before, and afterwards for more objects.
        narrower: possible after, and before for objects that are lost. One changed both ways is in `wider` too.
        unchanged: the same before and after.
        no_longer: operations possible only before.
        objects: counts, for the operations that name an object.
        added_weight: weight of what becomes possible, each operation by the share of objects that it gains.
        implied: permissions that come along because another implies them.
        redundant: permissions of `after` that another of `after` implies, with a reach that holds theirs.
    """

    newly: frozenset[str]
    wider: frozenset[str]
    narrower: frozenset[str]
    unchanged: frozenset[str]
    no_longer: frozenset[str]
    objects: Mapping[str, ObjectCount]
    added_weight: float
    implied: frozenset[str]
    redundant: frozenset[str]


def everywhere(permissions: Iterable[str]) -> frozenset[Holding]:
    """Return unbounded holdings of these permissions."""
    return frozenset(Holding(name) for name in permissions)


def possible(catalogue: Catalogue, held: Iterable[Holding], tree: CollectionTree) -> dict[str, Coverage]:
    """Return what is possible with these holdings: by operation, over which objects."""
    rows = tuple(held)
    whole = Coverage(tree.everything, uncollected=True)
    found: dict[str, Coverage] = {}
    for name in catalogue.opened_by_all(row.permission for row in rows):
        if not catalogue.concerns_object(name):
            found[name] = whole
            continue
        covered = coverage(tree, (row.reach for row in rows if name in catalogue.opened_by(row.permission)))
        if covered:
            found[name] = covered
    return found


def compare(
    catalogue: Catalogue,
    before: Iterable[Holding],
    after: Iterable[Holding],
    tree: CollectionTree = NO_COLLECTIONS,
) -> Comparison:
    """Compare two sets of holdings of one catalogue, over the objects of its collections."""
    earlier, later = frozenset(before), frozenset(after)
    old, new = possible(catalogue, earlier, tree), possible(catalogue, later, tree)
    both = old.keys() & new.keys()
    wider = frozenset(name for name in both if not new[name] <= old[name])
    narrower = frozenset(name for name in both if not old[name] <= new[name])
    objects = {
        name: ObjectCount(
            len(old[name].objects) if name in old else 0,
            len(new[name].objects) if name in new else 0,
            len(tree.everything),
            name in new and new[name].uncollected,
        )
        for name in old.keys() | new.keys()
        if catalogue.concerns_object(name)
    }
    names = frozenset(row.permission for row in later)
    implied = frozenset().union(*(catalogue.closure(name) for name in names)) - names
    return Comparison(
        newly=frozenset(new.keys() - old.keys()),
        wider=wider,
        narrower=narrower,
        unchanged=frozenset(name for name in both if old[name] == new[name]),
        no_longer=frozenset(old.keys() - new.keys()),
        objects=objects,
        added_weight=_to_one_place(_added(catalogue, old, new, tree)),
        implied=implied,
        redundant=_redundant(catalogue, later, tree),
    )


def added_weight(
    catalogue: Catalogue, before: Iterable[Holding], after: Iterable[Holding], tree: CollectionTree = NO_COLLECTIONS
) -> float:
    """Return the `added_weight` of `compare`, and nothing else of it."""
    old, new = possible(catalogue, before, tree), possible(catalogue, after, tree)
    return _to_one_place(_added(catalogue, old, new, tree))


def across(before: Catalogue, after: Catalogue, held: Iterable[Holding], tree: CollectionTree) -> Comparison | None:
    """Compare what the same holdings open in two catalogues of one resource; None where nothing differs for them.

    An operation counts as wider, too, where its effect or its class of data became heavier; and an operation that names
    no object any more is possible for all of them.
    """
    rows = frozenset(held)
    old, new = compare(before, (), rows, tree), compare(after, (), rows, tree)
    opened, open_now = possible(before, rows, tree), possible(after, rows, tree)
    both = opened.keys() & open_now.keys()
    added = _added(after, {}, open_now, tree) - _added(before, {}, opened, tree)
    newly, no_longer = new.newly - old.newly, old.newly - new.newly
    heavier = {
        name for name in both if weigh_operation(after.operations[name]) > weigh_operation(before.operations[name])
    }
    wider = frozenset(heavier | {name for name in both if not open_now[name] <= opened[name]})
    narrower = frozenset(name for name in both if not opened[name] <= open_now[name])
    if not newly and not no_longer and not wider and not narrower:
        return None
    return Comparison(
        newly=newly,
        wider=wider,
        narrower=narrower,
        unchanged=frozenset(both - wider - narrower),
        no_longer=no_longer,
        objects=new.objects,
        added_weight=_to_one_place(added),
        implied=new.implied,
        redundant=new.redundant,
    )


def refilled(catalogue: Catalogue, held: Iterable[Holding], before: CollectionTree, after: CollectionTree) -> float:
    """Return the weight of what holdings open further when other objects lie in the collections that they name.

    Counted by the share that the further objects have of those known before: more made-up ones make nothing lighter.
    """
    rows = frozenset(held)
    old, new = possible(catalogue, rows, before), possible(catalogue, rows, after)
    known = max(1, len(before.everything))
    weight = 0.0
    for name, covered in new.items():
        if catalogue.concerns_object(name):
            gained = covered.objects - (old[name].objects if name in old else frozenset())
            weight += weigh_operation(catalogue.operations[name]) * min(1.0, len(gained) / known)
    return _to_one_place(weight)


def _added(
    catalogue: Catalogue, old: Mapping[str, Coverage], new: Mapping[str, Coverage], tree: CollectionTree
) -> float:
    return sum(
        weigh_operation(catalogue.operations[name]) * _gain(catalogue, name, old.get(name), covered, tree)
        for name, covered in new.items()
    )


def _gain(
    catalogue: Catalogue, operation: str, before: Coverage | None, after: Coverage, tree: CollectionTree
) -> float:
    if before is None and not (catalogue.concerns_object(operation) and tree.everything):
        return 1.0
    gained = after.beyond(before)
    # What lies in no collection cannot be counted, and is something: no less than one object of those known.
    return gained.share(tree) or (1 / len(tree.everything) if gained.uncollected else 0.0)


def _to_one_place(weight: float) -> float:
    # A little is never told as nothing: many littles would pass as nothing, too. Less than nothing by what is computed
    # in binary is nothing.
    return max(0.1, round(weight, 1)) if weight > 1e-9 else round(weight, 1) + 0.0


def _redundant(catalogue: Catalogue, held: frozenset[Holding], tree: CollectionTree) -> frozenset[str]:
    def swallowed(row: Holding) -> bool:
        return any(
            other.permission != row.permission
            and row.permission in catalogue.closure(other.permission)
            and coverage(tree, [row.reach]) <= coverage(tree, [other.reach])
            for other in held
        )

    by_name: dict[str, list[Holding]] = {}
    for row in held:
        by_name.setdefault(row.permission, []).append(row)
    return frozenset(name for name, rows in by_name.items() if all(swallowed(row) for row in rows))
