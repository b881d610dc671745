"""Sign-in links: by such a link a person chooses a password, once; nobody ever types another's."""

from __future__ import annotations

from datetime import datetime, timedelta
from enum import StrEnum

from jamb.core.errors import BadInput

PAGE = "sign-in-link"
DEFAULT_HOURS = 24
MOST_HOURS = 72


class SignInLinkState(StrEnum):
    """waiting: nobody used it. replaced: another one was made for the person, or they may no longer act."""

    WAITING = "waiting"
    USED = "used"
    EXPIRED = "expired"
    REPLACED = "replaced"


def state_of_link(
    expires_at: datetime, used_at: datetime | None, replaced_at: datetime | None, now: datetime
) -> SignInLinkState:
    if used_at is not None:
        return SignInLinkState.USED
    if replaced_at is not None:
        return SignInLinkState.REPLACED
    return SignInLinkState.EXPIRED if expires_at <= now else SignInLinkState.WAITING


def link_end(now: datetime, hours: int) -> datetime:
    """Return when a link made now runs out. Raises `BadInput` outside of 1 to 72 hours."""
    if not 1 <= hours <= MOST_HOURS:
        raise BadInput.field("hours", hours, f"1 to {MOST_HOURS}", "Make a new link later, if it is not used in time.")
    return now + timedelta(hours=hours)
