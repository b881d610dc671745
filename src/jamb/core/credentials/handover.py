"""Handover: a sealed link that shows a new credential once, to whoever has the link, and tells when it was opened.

The link's key is behind its # (RFC 3986 section 3.5), which browsers send to nobody. It is kept nowhere: a copy of the
database together with every key of the service opens no handover.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from enum import StrEnum

from jamb.core.errors import BadInput

DEFAULT_HOURS = 24
MOST_HOURS = 7 * 24
SHORTEST_PASSPHRASE, LONGEST_PASSPHRASE = 8, 200
MOST_WRONG_TRIES = 5
NOTE_LONGEST = 500
# Of a recipient, in characters.
LONGEST_KEY = 10_000


class Deliver(StrEnum):
    """link: whoever asks for it gets the link, and passes it on. owners: it goes to the owners, and to nobody else."""

    LINK = "link"
    OWNERS = "owners"


class HandoverState(StrEnum):
    """waiting: nobody opened it. locked: too many wrong passphrases. withdrawn: its sender took it back."""

    WAITING = "waiting"
    OPENED = "opened"
    EXPIRED = "expired"
    LOCKED = "locked"
    WITHDRAWN = "withdrawn"


def state_of_handover(
    expires_at: datetime, opened_at: datetime | None, withdrawn_at: datetime | None, wrong_tries: int, now: datetime
) -> HandoverState:
    if opened_at is not None:
        return HandoverState.OPENED
    if withdrawn_at is not None:
        return HandoverState.WITHDRAWN
    if wrong_tries >= MOST_WRONG_TRIES:
        return HandoverState.LOCKED
    return HandoverState.EXPIRED if expires_at <= now else HandoverState.WAITING


def handover_end(now: datetime, hours: int) -> datetime:
    """Return when a link made now runs out. Raises `BadInput` outside of 1 hour to 7 days."""
    if not 1 <= hours <= MOST_HOURS:
        raise BadInput.field(
            "hours", hours, f"1 to {MOST_HOURS}", "Make a new link later, if it is not opened in time."
        )
    return now + timedelta(hours=hours)


def check_passphrase(passphrase: str) -> None:
    """Refuse a passphrase that is too short. An empty one means that there is none."""
    if passphrase and not SHORTEST_PASSPHRASE <= len(passphrase) <= LONGEST_PASSPHRASE:
        allowed = f"{SHORTEST_PASSPHRASE} to {LONGEST_PASSPHRASE} characters"
        raise BadInput.field("passphrase", "(not shown)", allowed, "Pass it on by another way than the link.")
