"""Asked, granted, used: the three columns by which a client is judged, per permission and in sum."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import date, datetime, timedelta
from enum import StrEnum

from jamb.core.access.standing import HeldAsk, HeldGrant
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE

_FOR_EVER = timedelta(days=100_000)


@dataclass(frozen=True, slots=True)
class Use:
    """Calls of one operation by one client and kind on one day, as a protected API reported them.

    Days before the window that anyone draws may stand together as one row, under the last of them.
    """

    operation: str
    kind: AccessKind
    day: date
    calls: int
    last_at: datetime


class UsedState(StrEnum):
    """never: granted long enough to know that it is not used. too-early: not granted long enough to say so.

    lapsed: it was used, but not for as long as a use counts.
    """

    USED = "used"
    LAPSED = "lapsed"
    NEVER = "never"
    TOO_EARLY = "too-early"
    NOT_GRANTED = "not-granted"


@dataclass(frozen=True, slots=True)
class Rung:
    """One permission of one kind. `used_operations` are those of E(permission) that were seen in use and still count.

    `fades_at` is when the first of them stops to count.

    `grants` are all in force; `granted` is the one that counts first: for everyone before for one person, wide before
    bounded, by consent before by a role. `held_since`: the permission is held since then, by whichever of them;
    `ended_at`: when a grant of it ended last.
    """

    permission: str
    kind: AccessKind
    asked: HeldAsk | None
    granted: HeldGrant | None
    used: UsedState
    used_operations: frozenset[str]
    last_used_at: datetime | None
    calls_by_day: Mapping[date, int]
    grants: tuple[HeldGrant, ...] = ()
    fades_at: datetime | None = None
    held_since: datetime | None = None
    ended_at: datetime | None = None


@dataclass(frozen=True, slots=True)
class LadderCount:
    """How many permissions are asked, granted and used, and how many asks wait for consent."""

    asked: int
    granted: int
    used: int
    waiting: int


def ladder(
    catalogue: Catalogue,
    asks: Iterable[HeldAsk],
    grants: Iterable[HeldGrant],
    uses: Iterable[Use],
    now: datetime,
    observation: timedelta,
    use_counts: timedelta = _FOR_EVER,
    uncounted_until: datetime | None = None,
) -> tuple[Rung, ...]:
    """Return one rung per permission asked or granted, ordered by name and kind. A use counts for `use_counts`.

    A use counts for the smallest granted permissions that open it: one that is granted beside a smaller permission
    which it implies is used only if something was done that the smaller one does not open. `uncounted_until`: calls
    before it may not have been counted, so that nothing is said to be unused by what was not seen before it.
    """
    asked = {(ask.permission, ask.kind): ask for ask in asks}
    granted: dict[tuple[str, AccessKind], list[HeldGrant]] = {}
    ended: dict[tuple[str, AccessKind], datetime] = {}
    for grant in sorted(grants, key=_first):
        key = grant.permission, grant.kind
        if grant.in_force(now):
            granted.setdefault(key, []).append(grant)
        elif grant.expires_at is not None and grant.expires_at <= now:
            ended[key] = max(ended.get(key, grant.expires_at), grant.expires_at)
    seen = tuple(uses)
    rungs = []
    for permission, kind in sorted(asked.keys() | granted.keys()):
        smaller = [
            other
            for other, other_kind in granted
            if other_kind is kind and other != permission and other in catalogue.closure(permission)
        ]
        opened = catalogue.opened_by(permission) - catalogue.opened_by_all(smaller)
        here = [use for use in seen if use.kind is kind and use.operation in opened]
        held = granted.get((permission, kind), [])
        since = min((one.granted_at for one in held), default=None)
        by_day: dict[date, int] = {}
        last: dict[str, datetime] = {}
        for use in here:
            by_day[use.day] = by_day.get(use.day, 0) + use.calls
            last[use.operation] = max(last.get(use.operation, use.last_at), use.last_at)
        counting = {name: at for name, at in last.items() if now - at < use_counts}
        rungs.append(
            Rung(
                permission=permission,
                kind=kind,
                asked=asked.get((permission, kind)),
                granted=held[0] if held else None,
                used=_used_state(
                    since and watched_since(since, uncounted_until), bool(counting), bool(here), now, observation
                ),
                used_operations=frozenset(counting),
                last_used_at=max(last.values(), default=None),
                calls_by_day=by_day,
                grants=tuple(held),
                fades_at=min(counting.values()) + use_counts if counting and use_counts < _FOR_EVER else None,
                held_since=since,
                ended_at=ended.get((permission, kind)),
            )
        )
    return tuple(rungs)


def _first(grant: HeldGrant) -> tuple[bool, bool, bool, datetime]:
    return bool(grant.through), grant.person_id is not None, grant.reach != EVERYWHERE, grant.granted_at


def count(rungs: Iterable[Rung]) -> LadderCount:
    rows = tuple(rungs)
    return LadderCount(
        asked=sum(rung.asked is not None for rung in rows),
        granted=sum(rung.granted is not None for rung in rows),
        used=sum(rung.used is UsedState.USED for rung in rows),
        waiting=sum(rung.asked is not None and rung.granted is None for rung in rows),
    )


def watched_since(since: datetime, uncounted_until: datetime | None) -> datetime:
    """Return from when on all use of what is held since a moment is known to be counted."""
    return max(since, uncounted_until) if uncounted_until is not None else since


def _used_state(since: datetime | None, counts: bool, seen: bool, now: datetime, observation: timedelta) -> UsedState:
    if since is None:
        return UsedState.NOT_GRANTED
    if counts:
        return UsedState.USED
    if now - since < observation:
        return UsedState.TOO_EARLY
    return UsedState.LAPSED if seen else UsedState.NEVER
