"""One admitted call under way: who, in which directory, when, with what; from the route to the ledger.

The guard of a route makes it (`jamb.actions.access.admit`), and whatever works by itself makes one too (`act_in`).
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from datetime import datetime

from sqlmodel import Session

from jamb.actions.backend import Backend, find_directory
from jamb.core.directories import Directory
from jamb.store import work
from jamb.store.work import Actor, Unit

# Who acts where nobody called: reads of background work, the demo and the tests.
THE_SERVICE = Actor("service", "jamb", "Jamb", "Jamb")


@dataclass(frozen=True, slots=True)
class Act:
    """`own`: the clients that the caller sees, where only ownership lets them see any; None: no such limit."""

    backend: Backend
    directory: Directory
    actor: Actor
    now: datetime
    own: frozenset[str] | None = None

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

    @contextmanager
    def read(self) -> Iterator[Session]:
        """Open a session that sees one state of the database until it is closed, and keeps nothing."""
        with Session(self.backend.engine) as session:
            yield session

    def change(self) -> AbstractContextManager[Unit]:
        """Open the one transaction of a change, with its entries in the ledger."""
        return work.unit_of_work(self.backend.engine, self.backend.sealer, self.directory, self.actor, self.now)

    def rehearse(self) -> AbstractContextManager[Unit]:
        """Open a unit in which everything is as if it was done, and nothing is kept."""
        return work.rehearsal(self.backend.engine, self.backend.sealer, self.directory, self.actor, self.now)


def act_in(backend: Backend, slug: str, now: datetime, actor: Actor = THE_SERVICE) -> Act:
    """Return an act in a directory by its short name, for whoever was not let in by a route. Raises `NotFound`."""
    with Session(backend.engine) as session:
        return Act(backend, find_directory(session, slug), actor, now)
