"""The rotation of a credential: another one beside it, both valid, until the old one is not used any more.

opened → proven → quiet → closed. Overdue when the overlap has ended before it is quiet; abandoned when the new one is
given up. What a rotation is at a moment follows from its dates and from when both credentials were seen, so no process
has to turn it from one state into the next.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum

from jamb.core.errors import BadInput, Conflict, StillInUse, Violation


class RotationState(StrEnum):
    """opened: both valid. proven: the new one was seen. quiet: the old one is unseen for the quiet period."""

    OPENED = "opened"
    PROVEN = "proven"
    QUIET = "quiet"
    OVERDUE = "overdue"
    CLOSED = "closed"
    ABANDONED = "abandoned"

    @property
    def open(self) -> bool:
        return self not in {RotationState.CLOSED, RotationState.ABANDONED}


class RotationEnd(StrEnum):
    """How a rotation ended: the old credential was withdrawn, or the new one."""

    CLOSED = "closed"
    ABANDONED = "abandoned"


LONGEST_OVERLAP_DAYS = 180


@dataclass(frozen=True, slots=True)
class Seen:
    """When a credential was seen at the token endpoint, and when it ends by itself."""

    first_used_at: datetime | None
    last_used_at: datetime | None
    expires_at: datetime | None


@dataclass(frozen=True, slots=True)
class Rotation:
    """One rotation. `quiet_for`: how long the old one must be unseen. `ended`: how it ended, None while it is open."""

    opened_at: datetime
    overlap_ends_at: datetime
    quiet_for: timedelta
    old: Seen
    new: Seen
    ended: RotationEnd | None = None

    @property
    def quiet_at(self) -> datetime | None:
        """When the old one is quiet if nothing uses it any more; None while the new one is not proven."""
        if self.new.first_used_at is None:
            return None
        last = max(filter(None, (self.old.last_used_at, self.opened_at)))
        unseen = last + self.quiet_for
        # What has ended by itself needs no waiting for.
        return unseen if self.old.expires_at is None else min(unseen, self.old.expires_at)

    @property
    def used_since(self) -> datetime | None:
        """When the old one was last used after the new one was made; None: not at all."""
        last = self.old.last_used_at
        return last if last is not None and last > self.opened_at else None

    def state(self, now: datetime) -> RotationState:
        if self.ended is not None:
            return RotationState(self.ended.value)
        if self.quiet_at is not None and self.quiet_at <= now:
            return RotationState.QUIET
        if self.overlap_ends_at <= now:
            return RotationState.OVERDUE
        return RotationState.OPENED if self.new.first_used_at is None else RotationState.PROVEN


def overlap_end(opened_at: datetime, overlap_days: int, old_ends_at: datetime | None) -> datetime:
    """Return when the overlap ends: after these days, and never after the old one ends by itself.

    Raises:
        BadInput: fewer than one day or too many.
    """
    if not 1 <= overlap_days <= LONGEST_OVERLAP_DAYS:
        raise BadInput.field("overlap_days", overlap_days, f"1 to {LONGEST_OVERLAP_DAYS} days")
    ends = opened_at + timedelta(days=overlap_days)
    return ends if old_ends_at is None else min(ends, old_ends_at)


def check_closing(rotation: Rotation, now: datetime, users: str, *, forced: bool) -> None:
    """Raise unless the old credential may be withdrawn now.

    Args:
        users: who used the old one since the rotation was opened, in words; empty: nobody.
        forced: close it though it is not quiet. What nobody ever proved is never closed: nothing would work then.

    Raises:
        Conflict: it has ended already. StillInUse: the old one is in use, or the new one was never seen.
    """
    state = _open_state(rotation, now)
    if state is RotationState.QUIET:
        return
    if rotation.new.first_used_at is None:
        raise StillInUse(
            "The new credential was never seen: to withdraw the old one would stop the client.",
            violations=(Violation("rotation", state.value, "one whose new credential was seen"),),
            next_step="Configure the new one and fetch a token with it, or abandon the rotation.",
        )
    if not forced:
        said = f"still used by {users}" if users else "not unseen for long enough yet"
        ready = (
            f" It is quiet on {rotation.quiet_at:%Y-%m-%d %H:%M} UTC if nothing uses it." if rotation.quiet_at else ""
        )
        raise StillInUse(
            f"The old credential is {said}.{ready}",
            violations=(Violation("rotation", state.value, "quiet"),),
            next_step="Find what still uses it, wait, or force it: whatever uses the old one then stops.",
        )


def check_abandoning(rotation: Rotation, now: datetime) -> None:
    """Raise unless the new credential may be withdrawn now: the old one must still work.

    Raises:
        Conflict: it has ended already, or the old credential has.
    """
    _open_state(rotation, now)
    if rotation.old.expires_at is not None and rotation.old.expires_at <= now:
        raise Conflict(
            "The old credential has ended: without the new one nothing would work.",
            next_step="Close the rotation instead.",
        )


def _open_state(rotation: Rotation, now: datetime) -> RotationState:
    state = rotation.state(now)
    if not state.open:
        raise Conflict(f"This rotation is {state.value} already.", next_step="Open another if it is needed.")
    return state
