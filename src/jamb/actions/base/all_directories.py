"""A change of the service as a whole: one transaction, with an entry in the ledger of every directory."""

from __future__ import annotations

from collections.abc import Generator, Iterator
from contextlib import closing, contextmanager
from datetime import datetime

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.core.errors import Conflict
from jamb.store.base.work import Actor, Unit, unit_of_work
from jamb.store.connections.outages import committing
from jamb.store.directory import directories

# Who does such things: whoever runs the service, at its command line.
OPERATOR = Actor("service", "operator", "Whoever runs the service", "jamb-service")


@contextmanager
def change_everywhere(backend: Backend, now: datetime) -> Iterator[Iterator[Unit]]:
    """Yield a unit for each directory, in the order of their short names; all are committed together, or none.

    Raises:
        Conflict: there is no directory yet.
    """
    with committing(), backend.engine.begin() as connection:
        with Session(connection) as session:
            # Two such changes come one after the other, and no directory is opened meanwhile.
            directories.lock_all(session)
            found = [row.value() for row in directories.all_directories(session)]
        if not found:
            raise Conflict("There is no directory yet.", next_step="Open one: `jamb-service directories open`.")

        def units() -> Generator[Unit, None, None]:
            for directory in found:
                with unit_of_work(connection, backend.sealer, directory, OPERATOR, now) as unit:
                    yield unit

        with closing(units()) as made:
            yield made
