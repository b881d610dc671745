"""How long a secret lives: the end the policy allows, and what state it is in at a moment."""

from __future__ import annotations

from datetime import datetime, timedelta
from enum import StrEnum

from jamb.core.errors import BadInput, SecretTooLong, Violation
from jamb.core.policy import DirectoryPolicy


class CredentialState(StrEnum):
    LIVE = "live"
    EXPIRING = "expiring"
    EXPIRED = "expired"
    WITHDRAWN = "withdrawn"


def end_of_secret(policy: DirectoryPolicy, now: datetime, days: int | None) -> datetime:
    """Return when a secret issued now for `days` ends; the policy's default when `days` is None.

    Raises:
        BadInput: fewer than one day.
        SecretTooLong: beyond the policy's longest life. There is no value for "never".
    """
    if days is None:
        days = policy.secret_default_days
    allowed = f"1 to {policy.secret_longest_days} days in this directory"
    if days < 1:
        raise BadInput.field("days", days, allowed, "A secret always has an end; leave it out for the default.")
    if days > policy.secret_longest_days:
        raise SecretTooLong(
            f"A secret of {days} days is longer than this directory allows.",
            violations=(Violation("days", str(days), allowed, f"Issue it for {policy.secret_longest_days} or fewer."),),
        )
    return now + timedelta(days=days)


def state_of(
    expires_at: datetime | None, withdrawn_at: datetime | None, now: datetime, notice: timedelta
) -> CredentialState:
    """Return the state at `now`. The end is exclusive: at `expires_at` the credential no longer works."""
    if withdrawn_at is not None and withdrawn_at <= now:
        return CredentialState.WITHDRAWN
    if expires_at is None:
        return CredentialState.LIVE
    if expires_at <= now:
        return CredentialState.EXPIRED
    return CredentialState.EXPIRING if expires_at - now <= notice else CredentialState.LIVE
