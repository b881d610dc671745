"""Initial access tokens: software may register clients of its own with one (RFC 7591 section 3)."""

from __future__ import annotations

from datetime import datetime, timedelta
from enum import StrEnum

from jamb.core.errors import BadInput

DEFAULT_DAYS = 7
MOST_DAYS = 90
MOST_USES = 50
# Of one directory, that still open something.
MOST_OPEN = 50
LABEL_LONGEST = 60


class InitialAccessState(StrEnum):
    OPEN = "open"
    USED_UP = "used up"
    EXPIRED = "expired"
    WITHDRAWN = "withdrawn"


def state_of_access(
    uses: int, used: int, expires_at: datetime, ended_at: datetime | None, now: datetime
) -> InitialAccessState:
    if ended_at is not None:
        return InitialAccessState.WITHDRAWN
    if used >= uses:
        return InitialAccessState.USED_UP
    return InitialAccessState.EXPIRED if expires_at <= now else InitialAccessState.OPEN


def access_end(now: datetime, days: int) -> datetime:
    """Return when such a token expires. Raises `BadInput` outside of its bounds."""
    if not 1 <= days <= MOST_DAYS:
        raise BadInput.field("days", days, f"1 to {MOST_DAYS}")
    return now + timedelta(days=days)
