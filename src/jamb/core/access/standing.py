"""What is known of a client and a person when a decision is taken, for one resource."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from jamb.core.permissions import AccessKind


@dataclass(frozen=True, slots=True)
class HeldAsk:
    permission: str
    kind: AccessKind
    asked_at: datetime


@dataclass(frozen=True, slots=True)
class HeldGrant:
    """A permission that the directory consented to. Ends are exclusive: at `expires_at` it no longer counts."""

    permission: str
    kind: AccessKind
    granted_at: datetime
    expires_at: datetime | None = None

    def in_force(self, now: datetime) -> bool:
        return self.granted_at <= now and (self.expires_at is None or now < self.expires_at)


@dataclass(frozen=True, slots=True)
class RoleHolding:
    """A role somebody holds: its name and the permissions it bundles."""

    name: str
    permissions: frozenset[str]


@dataclass(frozen=True, slots=True)
class ClientStanding:
    """A client before one resource. `can_authenticate` is None where no credential is involved (a public client)."""

    id: str
    name: str
    live: bool
    asks: tuple[HeldAsk, ...] = ()
    grants: tuple[HeldGrant, ...] = ()
    can_authenticate: bool | None = None


@dataclass(frozen=True, slots=True)
class PersonStanding:
    id: str
    name: str
    live: bool
    roles: tuple[RoleHolding, ...] = ()


def permissions_in_force(grants: Iterable[HeldGrant], kind: AccessKind, now: datetime) -> frozenset[str]:
    """Return the names granted for `kind` that count at `now`, without what they imply."""
    return frozenset(grant.permission for grant in grants if grant.kind is kind and grant.in_force(now))
