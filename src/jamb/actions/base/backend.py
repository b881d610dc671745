"""Where actions work: the database, the keys and the addresses by which the world knows this service."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime

from sqlalchemy import Engine

from jamb.actions.base.hashing import Hashing
from jamb.actions.base.own_uses import OwnUses
from jamb.store.base.sealing import Sealer


@dataclass(frozen=True, slots=True)
class Backend:
    """Built once by the composition root and handed down. `base_url` has no slash at its end.

    `formers`: addresses that the service had, each with the end of the time for which it holds still. `passkey_host`:
    to which passkeys belong; empty: none are offered. `own_uses`: where calls at Jamb's own API are counted until they
    are written; None: each is written at once.
    """

    engine: Engine
    sealer: Sealer
    base_url: str
    hashing: Hashing = field(default_factory=Hashing)
    formers: tuple[tuple[str, datetime], ...] = ()
    passkey_host: str = ""
    own_uses: OwnUses | None = None

    def issuer(self, slug: str) -> str:
        return self.issuers(slug)[0]

    def issuers(self, slug: str, now: datetime | None = None) -> list[str]:
        """Return the issuer identifier of a directory, then those by former addresses that hold still."""
        return [f"{url}/d/{slug}" for url in self._addresses(now)]

    def token_endpoint(self, slug: str) -> str:
        return f"{self.issuer(slug)}/token"

    def own_identifier(self, slug: str) -> str:
        return self.own_identifiers(slug)[0]

    def own_identifiers(self, slug: str, now: datetime | None = None) -> list[str]:
        """Return the audience of Jamb's own API for one directory, then those by former addresses that hold still."""
        return [f"{url}/api/v1/directories/{slug}" for url in self._addresses(now)]

    def _addresses(self, now: datetime | None) -> list[str]:
        return [self.base_url, *(url for url, until in self.formers if now is not None and until > now)]


# What the console's id begins with, before the short name of its directory.
CONSOLE = "jamb-console."


def console_client_id(slug: str) -> str:
    return f"{CONSOLE}{slug}"


def command_line_client_id(slug: str) -> str:
    return f"jamb-command-line.{slug}"
