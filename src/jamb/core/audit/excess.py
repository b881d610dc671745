"""Excess: the part of granted privilege that is not used, as a share of its weight.

An operation weighs what it weighs (core/permissions/weight.py) times the share of the known objects that the client's
grants of it reach together. Delegated grants are not in it: what they weigh depends on people.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from jamb.core.access import HeldGrant
from jamb.core.audit.picture import ResourcePicture
from jamb.core.permissions import AccessKind, Catalogue, weigh, weigh_operation
from jamb.core.reach import EVERYWHERE, CollectionTree, Reach, coverage


@dataclass(frozen=True, slots=True)
class Excess:
    """Weights of operations granted long enough to be judged, of those among them not seen in use, and of the rest.

    `early_weight`: granted too lately to say; never counted as excess.
    """

    granted_weight: float = 0
    unused_weight: float = 0
    early_weight: float = 0

    @property
    def share(self) -> float | None:
        """Return 0 to 1, or None when nothing can be judged yet."""
        return self.unused_weight / self.granted_weight if self.granted_weight else None

    @property
    def used_weight(self) -> float:
        return self.granted_weight - self.unused_weight


def granted_weight(places: Iterable[ResourcePicture]) -> int:
    """Return the weight of all operations that a client may do as itself."""
    total = 0
    for place in places:
        held = [one.permission for one in place.rungs if one.kind is AccessKind.APPLICATION and one.granted is not None]
        total += weigh(place.catalogue, place.catalogue.opened_by_all(held))
    return total


def held_weight(catalogue: Catalogue, grants: Iterable[HeldGrant], now: datetime) -> int:
    """Return the same at one resource, of what is held there, without its use."""
    held = (one.permission for one in grants if one.kind is AccessKind.APPLICATION and one.in_force(now))
    return weigh(catalogue, catalogue.opened_by_all(held))


def excess_at(place: ResourcePicture, now: datetime, observation: timedelta) -> Excess:
    """Return what one client has at one resource, used and not."""
    held = [one for one in place.rungs if one.kind is AccessKind.APPLICATION and one.granted is not None]
    judged = [one for one in held if one.held_since is not None and place.watched(one.held_since, now, observation)]
    opened = place.catalogue.opened_by_all(one.permission for one in judged)
    seen = frozenset().union(*(one.used_operations for one in judged))
    early = place.catalogue.opened_by_all(one.permission for one in held) - opened
    reached = shares(
        place.catalogue, place.tree, ((one.permission, grant.reach) for one in held for grant in one.grants)
    )

    def weight(names: Iterable[str]) -> float:
        return round(sum(weigh_operation(place.catalogue.operations[one]) * reached.get(one, 1.0) for one in names), 3)

    return Excess(weight(opened), weight(opened - seen), weight(early))


def trend(changes: Iterable[tuple[date, float, float]], until: date, days: int) -> list[tuple[date, Excess]]:
    """Return the excess at the end of each of the last days, until today. `changes`: by how much both weights rose on
    a day.

    Days before the first change are left out: nobody looked then. What a clock that was ahead noted under a day to come
    has happened by now.
    """
    rows = sorted((min(day, until), granted, unused) for day, granted, unused in changes)
    if not rows:
        return []
    by_day: dict[date, tuple[float, float]] = {}
    granted = unused = 0.0
    for day, more_granted, more_unused in rows:
        granted, unused = granted + more_granted, unused + more_unused
        by_day[day] = (granted, unused)
    first = max(rows[0][0], until - timedelta(days=days - 1))
    found: list[tuple[date, Excess]] = []
    held = max((day for day in by_day if day <= first), default=first)
    at = by_day.get(held, (0.0, 0.0))
    for back in range((until - first).days + 1):
        day = first + timedelta(days=back)
        at = by_day.get(day, at)
        found.append((day, Excess(round(at[0], 3), round(at[1], 3))))
    return found


def shares(catalogue: Catalogue, tree: CollectionTree, held: Iterable[tuple[str, Reach]]) -> Mapping[str, float]:
    """Return the share of the known objects that (permission, reach) hold together, by operation that is bounded."""
    rows = tuple(held)
    if not tree.everything or all(reach == EVERYWHERE for _, reach in rows):
        return {}
    by_operation: dict[str, list[Reach]] = {}
    for permission, reach in rows:
        for name in catalogue.opened_by(permission):
            if catalogue.concerns_object(name):
                by_operation.setdefault(name, []).append(reach)
    return {name: coverage(tree, reaches).share(tree) for name, reaches in by_operation.items()}
