"""Records of an estate, as plain values before they are in a database."""

from __future__ import annotations

import base64
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from random import Random
from typing import Any
from uuid import UUID

DAY = timedelta(days=1)
DOMAIN = "estate.example"


@dataclass
class Credential:
    """Issued, ending, last used and withdrawn in days before now (ends: days after now; None: never)."""

    id: UUID
    hint: str
    issued: float
    ends: float | None
    used: float | None = None
    withdrawn: float | None = None
    kind: str = "secret"
    keys: list[dict[str, str]] | None = None


@dataclass
class Grant:
    resource: str
    permission: str
    granted: float = 200
    asked: float | None = 201
    kind: str = "application"
    reach: dict[str, list[str]] | None = None
    person: UUID | None = None
    consented: bool = True


@dataclass
class Use:
    """Used as long ago as `first` and, day by day as the plan has it, until `last` days ago."""

    resource: str
    operation: str
    last: float = 1
    kind: str = "application"
    objects: tuple[str, ...] = ()


@dataclass
class Client:
    """One client of the plan. `owners`: places in the estate's list of people."""

    id: str
    name: str
    purpose: str = "Carries records from one place to another"
    kind: str = "service"
    state: str = "live"
    registered: float = 400
    owners: list[int] = field(default_factory=list)
    credentials: list[Credential] = field(default_factory=list)
    grants: list[Grant] = field(default_factory=list)
    uses: list[Use] = field(default_factory=list)
    redirects: list[str] = field(default_factory=list)
    # Whether a code was ever sent to them.
    answered: bool = True
    # By which grant types it got tokens.
    got_by: list[str] = field(default_factory=list)
    publisher: str = ""
    trial: float | None = None
    role: str = ""
    rotation: tuple[UUID, UUID, UUID] | None = None
    dead_tries: list[str] = field(default_factory=list)
    # Outcomes of requests that the audit is told of.
    replays: list[str] = field(default_factory=list)
    acts_for: list[int] = field(default_factory=list)
    networks: list[tuple[str, float]] = field(default_factory=list)
    # The look of its logo, as `core.clients.logos` has it; 0: it has none.
    logo: int = 0
    # Calls that it made beside its usual ones, by days ago.
    calls: dict[int, int] = field(default_factory=dict)


@dataclass(frozen=True)
class Person:
    """`strong`: may do whatever clients of the estate may; `live`: has not left."""

    id: UUID
    login: str
    name: str
    strong: bool
    live: bool = True


class Dice(Random):
    """The one source of chance of a plan."""

    def uuid(self) -> UUID:
        return UUID(int=self.getrandbits(128), version=4)

    def secret(
        self, *, issued: float = 60, ends: float | None = 110, used: float | None = 1, **more: Any
    ) -> Credential:
        return Credential(self.uuid(), f"jamb_s1_{self.getrandbits(40):010x}", issued, ends, used, **more)

    def keys(self, *, bits: int = 0, issued: float = 60, used: float | None = 1) -> Credential:
        """Return a key set: of EC keys, or of an RSA key of so many bits."""
        if bits:
            modulus = self.getrandbits(bits) | (1 << (bits - 1)) | 1
            coded = base64.urlsafe_b64encode(modulus.to_bytes(bits // 8, "big")).decode().rstrip("=")
            key = {"kty": "RSA", "kid": f"k{self.getrandbits(32):08x}", "n": coded, "e": "AQAB"}
        else:
            key = {"kty": "EC", "crv": "P-256", "kid": f"k{self.getrandbits(32):08x}", "x": "", "y": ""}
        return Credential(self.uuid(), f"keys {key['kid']}", issued, 300, used, kind="keys", keys=[key])


def at(now: datetime, days_ago: float) -> datetime:
    return now - days_ago * DAY
