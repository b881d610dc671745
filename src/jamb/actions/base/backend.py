"""Where actions work: the database, the keys and the addresses by which the world knows this service."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, field
from datetime import UTC, datetime

from sqlalchemy import Connection, Engine
from sqlmodel import Session

from jamb.actions.base.hashing import Hashing
from jamb.actions.base.own_uses import OwnUses
from jamb.core.directory.directories import Directory
from jamb.store.base.sealing import Sealer
from jamb.store.base.work import Actor, Unit, observation, unit_of_work
from jamb.store.resources.taking_effect import Taking, count_from


def _utc_now() -> datetime:
    return datetime.now(UTC)


@dataclass(frozen=True, slots=True)
class Backend:
    """Built once by the composition root and handed down. `base_url` has no slash at its end.

    `formers`: addresses that the service had, each with the end of the time for which it holds still. `passkey_host`:
    to which passkeys belong; empty: none are offered. `own_uses`: where calls at Jamb's own API are counted until they
    are written; None: each is written at once. `clock`: by which it is known when a change could be seen; None: at its
    own moment, for whoever tells a history.
    """

    engine: Engine
    sealer: Sealer
    base_url: str
    hashing: Hashing = field(default_factory=Hashing)
    formers: tuple[tuple[str, datetime], ...] = ()
    passkey_host: str = ""
    own_uses: OwnUses | None = None
    clock: Callable[[], datetime] | None = _utc_now

    def change(
        self, directory: Directory, actor: Actor, now: datetime, connection: Connection | None = None
    ) -> AbstractContextManager[Unit]:
        """Open the one transaction of a change in a directory, with its entries in the ledger."""
        bind = self.engine if connection is None else connection
        return unit_of_work(bind, self.sealer, directory, actor, now, self.clock)

    @contextmanager
    def ending(self, now: datetime) -> Iterator[Session]:
        """Open a transaction in which what people allowed may end: no entry in the ledger, as by signing out."""
        with observation(self.engine) as session:
            yield session
        self.count_from_now(now)

    def count_from_now(self, noted: datetime) -> None:
        """Have what was noted as ended at this moment, and can be seen to be, count from the moment of now."""
        if self.clock is not None:
            count_from(self.engine, Taking(noted), self.clock())

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
