"""Right-sizing: from what a client was seen to do at a resource to the smallest grant that would have let it.

Only what was granted long enough to be judged is replaced; what is newer stays as it is. A narrower grant is first
tried in a dry run: nothing is refused, and what it would have refused is counted (a miss).
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime

from jamb.core.access import HeldGrant, Holding, compare
from jamb.core.audit.excess import shares
from jamb.core.audit.picture import ResourcePicture
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.permissions import AccessKind, Catalogue, smallest, weigh_operation
from jamb.core.permissions.smallest import MOST_STEPS
from jamb.core.reach import EVERYWHERE, CollectionTree, Reach, ReachKind, coverage
from jamb.core.reach.fewest import smallest_reach


@dataclass(frozen=True, slots=True)
class SmallerGrant:
    """What would do instead of what is held.

    Attributes:
        held: what is judged, and would be replaced.
        kept: what is held beside it: too new to be judged, or by a role.
        permissions: the smallest that open what was done; none where nothing was.
        reach: where they would have to count.
        done: the operations that were seen, and still count.
        objects: known objects that were touched; None: nobody reports them.
        weight_before, weight_after: of what is replaced and what replaces it, by share of the objects.
        exact: both are proven smallest.
    """

    resource: str
    held: tuple[Holding, ...]
    kept: tuple[Holding, ...]
    permissions: tuple[str, ...]
    reach: Reach
    done: frozenset[str]
    objects: frozenset[str] | None
    weight_before: float
    weight_after: float
    exact: bool

    @property
    def after(self) -> tuple[Holding, ...]:
        return tuple(Holding(name, self.reach) for name in self.permissions)


def smaller_grant(
    place: ResourcePicture, policy: DirectoryPolicy, now: datetime, most_steps: int = MOST_STEPS
) -> SmallerGrant | None:
    """Return the smallest grant that fits the use at one resource; None where nothing smaller is known to do."""
    held: list[Holding] = []
    kept: list[Holding] = []
    ends: list[datetime | None] = []
    beside: list[HeldGrant] = []
    done: frozenset[str] = frozenset()
    for rung in place.rungs:
        if rung.kind is not AccessKind.APPLICATION:
            continue
        for grant in rung.grants:
            one = Holding(grant.permission, grant.reach)
            if place.watched(grant.granted_at, now, policy.observation) and not grant.through:
                held.append(one)
                ends.append(grant.expires_at)
                done |= rung.used_operations
            else:
                kept.append(one)
                beside.append(grant)
    if not held:
        return None
    catalogue, tree = place.catalogue, place.tree
    # What a newer grant or a role opens anyway needs no replacement where it counts everywhere, and for as long.
    open_anyway = catalogue.opened_by_all(
        one.permission for one in beside if one.reach == EVERYWHERE and all(one.lasts(end) for end in ends)
    )
    opened = catalogue.opened_by_all(one.permission for one in held)
    needed = (done & opened) - open_anyway
    proposal = smallest(catalogue, needed, AccessKind.APPLICATION, most_steps=most_steps, within=opened)
    if proposal.unreachable:
        return None
    reach, objects, proven = _reach(place, held, needed)
    if reach is None:
        return None
    smaller = [Holding(name, reach) for name in proposal.permissions]
    before, after = weight_of(catalogue, held, tree), weight_of(catalogue, smaller, tree)
    # It is put in force without a consent, so whatever weighs less but gives something new is no fit.
    gives = compare(catalogue, held, smaller, tree)
    if after >= before or gives.newly or gives.wider:
        return None
    return SmallerGrant(
        catalogue.name,
        tuple(held),
        tuple(kept),
        proposal.permissions,
        reach,
        needed,
        objects,
        before,
        after,
        proposal.exact and proven,
    )


def misses(
    catalogue: Catalogue,
    tree: CollectionTree,
    after: Iterable[Holding],
    operation: str,
    objects: Mapping[str, int],
    calls: int,
) -> dict[str, int]:
    """Return the calls of an operation that holdings would have refused, by object (empty: none is concerned)."""
    opening = [one.reach for one in after if operation in catalogue.opened_by(one.permission)]
    if not opening:
        return dict(objects) if objects else {"": calls}
    if not catalogue.concerns_object(operation):
        return {}
    return {
        name: count
        for name, count in objects.items()
        if not any(reach.contains(tree.where(name) if name else ()) for reach in opening)
    }


def _reach(
    place: ResourcePicture, held: Iterable[Holding], needed: frozenset[str]
) -> tuple[Reach | None, frozenset[str] | None, bool]:
    """Return the smallest reach for what was touched, within what is reached now; None where it has no name."""
    reaches = {one.reach for one in held}
    now = _together(reaches)
    concerned = [name for name in needed if place.catalogue.concerns_object(name)]
    touched = frozenset().union(*(place.objects.get(name, frozenset()) for name in concerned))
    if not place.tree.collections or not concerned or any(not place.objects.get(name) for name in concerned):
        return now, None, True
    whole = coverage(place.tree, reaches)
    found = smallest_reach(place.tree, touched, within=whole.objects)
    if found is None or (now is not None and found.covered >= len(whole.objects)):
        return now, touched - {""}, True
    return found.reach, touched, found.exact


def _together(reaches: Collection[Reach]) -> Reach | None:
    """Return a reach that holds all of these and nothing else; None where it cannot be named."""
    if len(reaches) == 1:
        return next(iter(reaches))
    if EVERYWHERE in reaches:
        return EVERYWHERE
    if all(one.kind is ReachKind.ONLY for one in reaches):
        return Reach(ReachKind.ONLY, frozenset().union(*(one.collections for one in reaches)))
    return None


def weight_of(catalogue: Catalogue, held: Iterable[Holding], tree: CollectionTree) -> float:
    """Return the weight of what is held, each operation by the share of the known objects that is reached."""
    rows = tuple(held)
    reached = shares(catalogue, tree, ((one.permission, one.reach) for one in rows))
    opened = catalogue.opened_by_all(one.permission for one in rows)
    return round(sum(weigh_operation(catalogue.operations[name]) * reached.get(name, 1.0) for name in opened), 2)
