"""All that the rules may know of one client, at one moment."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from jamb.core.ladder import Rung
from jamb.core.permissions import Catalogue


@dataclass(frozen=True, slots=True)
class CredentialPicture:
    id: str
    hint: str
    issued_at: datetime
    expires_at: datetime | None
    withdrawn_at: datetime | None
    last_used_at: datetime | None


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
