"""One connection for one call: handed from whoever admits it to whatever does it first, then back to the pool."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from sqlalchemy import Connection, Engine


class Lease:
    """A connection that is kept between admission and the work. Not for two threads at the same time.

    Whoever holds one must not wait for a thread that waits for another connection: calls take a seat first
    (`jamb.service.database_seats`), and there are fewer seats than connections.
    """

    def __init__(self, engine: Engine) -> None:
        self._engine = engine
        self._kept: Connection | None = None

    def open(self) -> Connection:
        """Take a connection, and keep it for the work that follows.

        Until it is lent each statement stands by itself: to let somebody in takes one, and with a transaction around it
        the server would be asked thrice.
        """
        self._kept = self._engine.connect().execution_options(isolation_level="AUTOCOMMIT")
        return self._kept

    @contextmanager
    def taken(self) -> Iterator[Connection]:
        """Lend the kept connection for the block, or a fresh one, for a transaction; then it goes back to the pool."""
        kept, self._kept = self._kept, None
        connection = kept or self._engine.connect()
        try:
            yield connection.execution_options(isolation_level="READ COMMITTED") if kept is not None else connection
        finally:
            connection.close()

    def close(self) -> None:
        """Give back what was kept and never used."""
        if self._kept is not None:
            self._kept.close()
            self._kept = None
