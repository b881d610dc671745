"""What is around a client and bears on how it is judged: what its owners may do, and whom else it could take over."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from datetime import datetime

from jamb.core.access import HeldGrant, Holding
from jamb.core.access.compare import possible
from jamb.core.audit.picture import OtherPicture, OwnerPicture, ResourcePicture
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, weigh_operation
from jamb.core.reach import Reach, ReachKind

_GRAVE = frozenset({DataClass.PERSONAL, DataClass.RESTRICTED})
# Who may do one of these to a client can act as it.
TAKES_OVER = frozenset(
    {
        "credentials.issue",
        "credentials.make",
        "credentials.add",
        "rotations.open",
        "rotations.open-all",
        "rotations.reissue",
        "handovers.make",
        "handovers.seal",
        "owners.change",
    }
)
# How many of those that can be taken over at once a finding names.
MOST_EXAMPLES = 3


def grave(operation: Operation) -> bool:
    """Tell whether an operation is one that owners should be allowed too: personal or restricted data, or control."""
    return operation.data_class in _GRAVE or operation.effect is Effect.CONTROL


def owner_picture(
    name: str,
    places: Iterable[tuple[ResourcePicture, Collection[Holding]]],
    changes_at: datetime | None,
    person_id: str = "",
) -> OwnerPicture:
    """Return a live owner who answers for everything, beside what the client may do at each resource.

    Args:
        places: each with what the owner may do there by roles.
    """
    outside, weight = [], 0
    for place, mine in places:
        for one in _beyond(place, mine):
            outside.append(f"{place.catalogue.name}: {one}")
            weight += weigh_operation(place.catalogue.operations[one])
    return OwnerPicture(name, True, True, tuple(sorted(outside)), weight, changes_at, person_id)


def holds_grave(place: ResourcePicture) -> bool:
    """Tell whether a client may do anything grave as itself at a resource."""
    opened = place.catalogue.opened_by_all(one.permission for one in _as_itself(place))
    return any(grave(place.catalogue.operations[name]) for name in opened)


def _beyond(place: ResourcePicture, mine: Collection[Holding]) -> list[str]:
    """Return the grave operations that a client may do as itself for objects for which the owner may not."""
    catalogue = place.catalogue
    theirs, known = _as_itself(place), [one for one in mine if one.permission in catalogue.permissions]
    tree = place.measure.tree_of([*theirs, *known])
    want, have = possible(catalogue, theirs, tree), possible(catalogue, known, tree)
    return [
        name
        for name, covered in want.items()
        if grave(catalogue.operations[name]) and (name not in have or not covered <= have[name])
    ]


def _as_itself(place: ResourcePicture) -> list[Holding]:
    return [
        Holding(rung.permission, grant.reach)
        for rung in place.rungs
        if rung.kind is AccessKind.APPLICATION
        for grant in rung.grants
    ]


def taken_over(
    client_id: str,
    held: Iterable[HeldGrant],
    others: Mapping[str, Iterable[HeldGrant]],
    names: Mapping[str, str],
    catalogue: Catalogue,
) -> tuple[OtherPicture, ...]:
    """Return the clients that can give access and that a client can take over, one by one or all at once.

    Args:
        held, others: what it and others hold at Jamb's own API as themselves, now. names: of those others that live.
    """
    ways = [one for one in held if takes_over(catalogue, one)]
    if not ways:
        return ()
    strong = {
        key: controls
        for key, grants in others.items()
        if key in names and key != client_id and (controls := _controls(catalogue, grants))
    }
    found: list[OtherPicture] = []
    wide = sorted(
        (one for one in ways if one.reach.kind is not ReachKind.ONLY),
        key=lambda one: (one.reach.kind is not ReachKind.EVERYWHERE, one.permission, sorted(one.reach.collections)),
    )
    reached = {key for key in strong if any(one.reach.contains((key,)) for one in wide)}
    if reached:
        some = sorted(reached, key=lambda key: (names[key], key))[:MOST_EXAMPLES]
        named = _every(wide[0].reach, names)
        found.append(OtherPicture("", named, wide[0].permission, strong[some[0]], tuple(names[key] for key in some)))
    for key in sorted(strong.keys() - reached):
        by = sorted(one.permission for one in ways if one.reach.contains((key,)))
        if by:
            found.append(OtherPicture(key, names[key], by[0], strong[key]))
    return tuple(found)


def takes_over(catalogue: Catalogue, one: HeldGrant) -> bool:
    """Tell whether whoever holds this at Jamb's own API can act as the clients that it reaches."""
    return not TAKES_OVER.isdisjoint(catalogue.opened_by(one.permission))


def _controls(catalogue: Catalogue, grants: Iterable[HeldGrant]) -> tuple[str, ...]:
    opened = catalogue.opened_by_all(one.permission for one in grants)
    return tuple(sorted(name for name in opened if catalogue.operations[name].effect is Effect.CONTROL))


def _every(reach: Reach, names: Mapping[str, str]) -> str:
    if reach.kind is ReachKind.EVERYWHERE:
        return "every client"
    return f"every client but {', '.join(sorted(names.get(key, key) for key in reach.collections))}"
