"""All that the rules may know of one client, at one moment."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from jamb.core.clients import ClientKind
from jamb.core.credentials import CredentialKind, CredentialState, state_of
from jamb.core.ladder import Rung
from jamb.core.permissions import Catalogue

_STANDING = frozenset({CredentialState.LIVE, CredentialState.EXPIRING})


@dataclass(frozen=True, slots=True)
class CredentialPicture:
    """`weak`: what its key is, where that is weaker than is made today; empty otherwise."""

    id: str
    kind: CredentialKind
    hint: str
    issued_at: datetime
    starts_at: datetime | None
    expires_at: datetime | None
    disabled_at: datetime | None
    withdrawn_at: datetime | None
    last_used_at: datetime | None
    weak: str = ""

    def state(self, now: datetime, notice: timedelta) -> CredentialState:
        return state_of(
            self.expires_at, self.withdrawn_at, now, notice, starts_at=self.starts_at, disabled_at=self.disabled_at
        )

    def works(self, now: datetime) -> bool:
        return self.state(now, timedelta()) in _STANDING

    @property
    def name(self) -> str:
        return f"{self.kind.words.capitalize()} {self.hint}"


@dataclass(frozen=True, slots=True)
class ResourcePicture:
    """One resource with the client's ladder on it. `bounds_objects`: grants there can be bounded to collections."""

    catalogue: Catalogue
    rungs: tuple[Rung, ...]
    bounds_objects: bool = False


@dataclass(frozen=True, slots=True)
class OwnerPicture:
    """`live`: may still sign in. `full`: answers for everything about the client."""

    name: str
    live: bool = True
    full: bool = True


@dataclass(frozen=True, slots=True)
class RotationPicture:
    """A rotation that is open."""

    id: str
    old_hint: str
    new_hint: str
    overlap_ends_at: datetime


@dataclass(frozen=True, slots=True)
class DeadTries:
    """Token requests of late with a credential that has ended."""

    hint: str
    times: int
    last_at: datetime
    address: str


@dataclass(frozen=True, slots=True)
class ClientPicture:
    id: str
    name: str
    live: bool
    owners: tuple[OwnerPicture, ...]
    credentials: tuple[CredentialPicture, ...]
    resources: tuple[ResourcePicture, ...]
    kind: ClientKind = ClientKind.SERVICE
    purpose: str = ""
    registered_at: datetime | None = None
    rotations: tuple[RotationPicture, ...] = ()
    dead_tries: tuple[DeadTries, ...] = ()

    @property
    def last_seen_at(self) -> datetime | None:
        """When any of its credentials got a token last; None: never."""
        return max((one.last_used_at for one in self.credentials if one.last_used_at is not None), default=None)
