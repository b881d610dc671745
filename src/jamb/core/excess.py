"""Excess: the part of granted privilege that is not used, as a share of its weight."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta

from jamb.core.audit.picture import ResourcePicture
from jamb.core.permissions import AccessKind, weigh


@dataclass(frozen=True, slots=True)
class Excess:
    """Weights of operations granted long enough to be judged, and of those among them never seen in use."""

    granted_weight: int
    unused_weight: int

    @property
    def share(self) -> float | None:
        """Return 0 to 1, or None when nothing can be judged yet."""
        return self.unused_weight / self.granted_weight if self.granted_weight else None


def granted_weight(places: Iterable[ResourcePicture]) -> int:
    """Return the weight of all operations that a client may do as itself."""
    total = 0
    for place in places:
        held = [one.permission for one in place.rungs if one.kind is AccessKind.APPLICATION and one.granted is not None]
        total += weigh(place.catalogue, place.catalogue.opened_by_all(held))
    return total


def excess(places: Iterable[ResourcePicture], now: datetime, observation: timedelta) -> Excess:
    """Sum over clients' resources. Delegated grants are not judged: their use depends on people."""
    granted = unused = 0
    for place in places:
        judged = [
            rung
            for rung in place.rungs
            if rung.kind is AccessKind.APPLICATION
            and rung.granted is not None
            and now - rung.granted.granted_at >= observation
        ]
        opened = place.catalogue.opened_by_all(rung.permission for rung in judged)
        seen = frozenset().union(*(rung.used_operations for rung in judged))
        granted += weigh(place.catalogue, opened)
        unused += weigh(place.catalogue, opened - seen)
    return Excess(granted, unused)
