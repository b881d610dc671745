"""All that the rules may know of one client, at one moment."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from jamb.core.credentials import CredentialKind, CredentialState, state_of
from jamb.core.ladder import Rung
from jamb.core.permissions import Catalogue


@dataclass(frozen=True, slots=True)
class CredentialPicture:
    id: str
    kind: CredentialKind
    hint: str
    issued_at: datetime
    starts_at: datetime | None
    expires_at: datetime | None
    disabled_at: datetime | None
    withdrawn_at: datetime | None
    last_used_at: datetime | None

    def state(self, now: datetime, notice: timedelta) -> CredentialState:
        return state_of(
            self.expires_at, self.withdrawn_at, now, notice, starts_at=self.starts_at, disabled_at=self.disabled_at
        )


@dataclass(frozen=True, slots=True)
class ResourcePicture:
    """One resource with the client's ladder on it."""

    catalogue: Catalogue
    rungs: tuple[Rung, ...]


@dataclass(frozen=True, slots=True)
class ClientPicture:
    id: str
    name: str
    live: bool
    owners: tuple[str, ...]
    credentials: tuple[CredentialPicture, ...]
    resources: tuple[ResourcePicture, ...]
