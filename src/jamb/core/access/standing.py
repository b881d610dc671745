"""What is known of a client and a person when a decision is taken, for one resource."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE, Reach


@dataclass(frozen=True, slots=True)
class HeldAsk:
    permission: str
    kind: AccessKind
    asked_at: datetime


@dataclass(frozen=True, slots=True)
class HeldGrant:
    """A permission that counts for a client. Ends are exclusive: at `expires_at` it no longer counts.

    Attributes:
        person_id: delegated only: the one person it covers; None covers everyone.
        through: how it came, when not by consent: the role that is assigned to the client.
    """

    permission: str
    kind: AccessKind
    granted_at: datetime
    expires_at: datetime | None = None
    reach: Reach = EVERYWHERE
    person_id: str | None = None
    through: str = ""

    def in_force(self, now: datetime) -> bool:
        return self.granted_at <= now and (self.expires_at is None or now < self.expires_at)

    def lasts(self, until: datetime | None) -> bool:
        """Tell whether it does not end before a moment, or (None) never."""
        return self.expires_at is None or (until is not None and self.expires_at >= until)


@dataclass(frozen=True, slots=True)
class RoleHolding:
    """A role somebody holds: the permissions it bundles, where it counts, and the group through which, if any."""

    name: str
    permissions: frozenset[str]
    reach: Reach = EVERYWHERE
    through: str = ""

    @property
    def words(self) -> str:
        parts = [self.name]
        if self.reach != EVERYWHERE:
            parts.append(f"({self.reach.words})")
        if self.through:
            parts.append(f"through {self.through}")
        return " ".join(parts)


@dataclass(frozen=True, slots=True)
class ClientStanding:
    """A client before one resource.

    Attributes:
        can_authenticate: None where no credential is involved (a public client).
        tokens_revoked_at: tokens issued before this moment are refused, whatever they carry.
        sign_in_groups: the groups whose people may sign in to it; none: everybody's.
        trial_ends_at: from when on nobody may; None: it is no trial.
        grant_types: those that it is registered for alone; none: all of its kind.
        lacks_grant_type: the one without which it gets no token of the kind that is asked about; empty: it has one, or
            that is not looked at.
    """

    id: str
    name: str
    live: bool
    asks: tuple[HeldAsk, ...] = ()
    grants: tuple[HeldGrant, ...] = ()
    can_authenticate: bool | None = None
    tokens_revoked_at: datetime | None = None
    sign_in_groups: tuple[str, ...] = ()
    trial_ends_at: datetime | None = None
    grant_types: tuple[str, ...] = ()
    lacks_grant_type: str = ""


@dataclass(frozen=True, slots=True)
class PersonStanding:
    id: str
    name: str
    live: bool
    roles: tuple[RoleHolding, ...] = ()
    # The names of the groups that they are in, directly or by others.
    groups: frozenset[str] = frozenset()


@dataclass(frozen=True, slots=True)
class Holding:
    """A permission with the reach at which it is held: what comparisons are made of."""

    permission: str
    reach: Reach = EVERYWHERE


def covering(grants: Iterable[HeldGrant], person_id: str | None) -> list[HeldGrant]:
    """Return what counts when the client acts for this person; for None, what counts whoever it acts for."""
    return [grant for grant in grants if grant.person_id in (None, person_id)]


def permissions_in_force(grants: Iterable[HeldGrant], kind: AccessKind, now: datetime) -> frozenset[str]:
    """Return the names granted for `kind` that count at `now`, without what they imply."""
    return frozenset(grant.permission for grant in grants if grant.kind is kind and grant.in_force(now))


def holdings_in_force(grants: Iterable[HeldGrant], kind: AccessKind, now: datetime) -> frozenset[Holding]:
    """Return what is granted for `kind` and counts at `now`, with its reach."""
    return frozenset(
        Holding(grant.permission, grant.reach) for grant in grants if grant.kind is kind and grant.in_force(now)
    )
