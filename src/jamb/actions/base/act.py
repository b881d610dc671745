"""One admitted call under way: who, in which directory, when, with what; from the route to the ledger.

The guard of a route makes it (`jamb.actions.entry.access.admit`), and so does whatever works by itself (`act_in`).
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager, nullcontext
from dataclasses import dataclass, field, replace
from datetime import datetime, timedelta
from uuid import UUID

from sqlalchemy import Connection
from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.access import TokenFacts
from jamb.core.directory.directories import Directory
from jamb.core.errors import Outdated
from jamb.store.base.work import Actor, Unit, rehearsal
from jamb.store.connections.lease import Lease
from jamb.store.connections.standby import AgedRead

# Who acts where nobody called: reads of background work, the demo and the tests.
THE_SERVICE = Actor("service", "jamb", "Jamb", "Jamb")


# The version of what is not there, for who means to make something new.
NOTHING_YET = ("",)


@dataclass(frozen=True, slots=True)
class Caller:
    """Who called Jamb's own API: a client, for a person or as itself, by a token or by a console session."""

    client_id: str
    person_id: UUID | None = None
    token: TokenFacts | None = None


@dataclass(frozen=True, slots=True)
class Act:
    """An admitted call.

    Attributes:
        own: the clients that the caller sees, where only ownership lets them see any; None: no such limit.
        caller: who called, for what is decided again as another operation; None: nobody called.
        if_match: the versions of what is to be changed that its caller saw; None: any is meant.
        lease: the connection that the guard took.
        aged: the standby at which it may read, where its caller takes what is a little old.
    """

    backend: Backend
    directory: Directory
    actor: Actor
    now: datetime
    own: frozenset[str] | None = None
    caller: Caller | None = None
    if_match: tuple[str, ...] | None = None
    lease: Lease | None = field(default=None, repr=False, compare=False)
    aged: AgedRead | None = field(default=None, repr=False, compare=False)

    @property
    def mine(self) -> str | None:
        """The person to whose own things the caller is limited; None: no such limit."""
        return self.actor.id if self.own is not None else None

    @property
    def slug(self) -> str:
        return self.directory.slug

    def by(self, actor: Actor) -> Act:
        """The same, done as another: an act that others agreed to is done as whoever asked for it."""
        return replace(self, actor=actor)

    def in_parts(self) -> Act:
        """The same, for a call of several changes: they cannot all bear its key, and each is done once anyway."""
        return replace(self, actor=replace(self.actor, once=None))

    def expect(self, name: str, version: Callable[[], str]) -> None:
        """Refuse to change what is not as the caller saw it (RFC 9110 section 13.1.1).

        Args:
            version: returns that of what is there, read where nobody else can change it; empty: nothing is there.

        Raises:
            Outdated: it is another than each that the caller named.
        """
        if self.if_match is None:
            return
        found = version()
        if found in self.if_match or (found and "*" in self.if_match):
            return
        if self.if_match == NOTHING_YET:
            raise Outdated(f"{name} is there already.", next_step="Choose another name, or change what is there.")
        what = "was changed meanwhile" if found else "is not there any more"
        raise Outdated(
            f"{name} {what}: it is not as you saw it. Nothing was changed now.",
            next_step="Read it again, look at what is different, and send your change with the version it has then.",
        )

    @property
    def as_of(self) -> datetime:
        """The moment that what was read so far is surely not older than."""
        return self.now - timedelta(seconds=self.aged.age or 0) if self.aged is not None else self.now

    @contextmanager
    def read(self) -> Iterator[Session]:
        """Open a session that sees one state of the database until it is closed, and keeps nothing."""
        with self.aged.session() if self.aged is not None else nullcontext() as session:
            if session is not None:
                yield session
                return
        with (
            self._connection() as connection,
            Session(connection.execution_options(isolation_level="REPEATABLE READ")) as session,
        ):
            yield session

    @contextmanager
    def change(self) -> Iterator[Unit]:
        """Open the one transaction of a change, with its entries in the ledger."""
        with (
            self._connection() as connection,
            self.backend.change(self.directory, self.actor, self.now, connection) as unit,
        ):
            yield unit

    @contextmanager
    def rehearse(self) -> Iterator[Unit]:
        """Open a unit in which everything is as if it was done, and nothing is kept."""
        with (
            self._connection() as connection,
            rehearsal(connection, self.backend.sealer, self.directory, self.actor, self.now) as unit,
        ):
            yield unit

    def _connection(self) -> AbstractContextManager[Connection]:
        return self.lease.taken() if self.lease is not None else self.backend.engine.connect()


def act_in(backend: Backend, slug: str, now: datetime, actor: Actor = THE_SERVICE) -> Act:
    """Return an act in a directory by its short name, for whoever was not let in by a route. Raises `NotFound`."""
    with Session(backend.engine) as session:
        return Act(backend, find_directory(session, slug), actor, now)
