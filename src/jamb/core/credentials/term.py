"""How long a credential lives: the end the policy allows, and what state it is in at a moment."""

from __future__ import annotations

from datetime import datetime, timedelta
from enum import StrEnum

from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput, LivesTooLong, Violation


class CredentialState(StrEnum):
    """coming: it starts later. disabled: it works again when it is enabled."""

    COMING = "coming"
    LIVE = "live"
    EXPIRING = "expiring"
    EXPIRED = "expired"
    DISABLED = "disabled"
    WITHDRAWN = "withdrawn"

    @property
    def works(self) -> bool:
        """Whether it proves its client now."""
        return self in {CredentialState.LIVE, CredentialState.EXPIRING}


def longest_days(policy: DirectoryPolicy, kind: CredentialKind) -> int:
    return policy.secret_longest_days if kind is CredentialKind.SECRET else policy.key_longest_days


def end_of(policy: DirectoryPolicy, kind: CredentialKind, now: datetime, days: int | None) -> datetime:
    """Return when a credential of a kind made now for `days` ends; the policy's default when `days` is None.

    Raises:
        BadInput: fewer than one day.
        LivesTooLong: beyond the policy's longest life. There is no value for "never".
    """
    longest = longest_days(policy, kind)
    if days is None:
        days = policy.secret_default_days if kind is CredentialKind.SECRET else policy.key_default_days
    allowed = f"1 to {longest} days in this directory"
    if days < 1:
        raise BadInput.field("days", days, allowed, f"A {kind.words} always has an end; leave it out for the default.")
    if days > longest:
        raise LivesTooLong(
            f"A {kind.words} of {days} days is longer than this directory allows.",
            violations=(Violation("days", str(days), allowed, f"Make it {longest} or fewer."),),
        )
    return now + timedelta(days=days)


def state_of(
    expires_at: datetime | None,
    withdrawn_at: datetime | None,
    now: datetime,
    notice: timedelta,
    *,
    starts_at: datetime | None = None,
    disabled_at: datetime | None = None,
) -> CredentialState:
    """Return the state at `now`. The end is exclusive: at `expires_at` the credential no longer works."""
    if withdrawn_at is not None and withdrawn_at <= now:
        return CredentialState.WITHDRAWN
    if expires_at is not None and expires_at <= now:
        return CredentialState.EXPIRED
    if disabled_at is not None:
        return CredentialState.DISABLED
    if starts_at is not None and starts_at > now:
        return CredentialState.COMING
    if expires_at is not None and expires_at - now <= notice:
        return CredentialState.EXPIRING
    return CredentialState.LIVE
