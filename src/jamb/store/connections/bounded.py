"""Connections to PostgreSQL on which nothing waits for ever.

The server ends a statement that takes too long, and a transaction whose process went silent. A server that does not
answer at all is given up here: the connection is closed, and whoever waited learns that the database does not answer.
"""

from __future__ import annotations

import select
import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any

import psycopg
from psycopg._preparing import PrepareManager
from psycopg.conninfo import conninfo_to_dict
from psycopg.pq import TransactionStatus

CONNECT_TIMEOUT_SECONDS = 3
# Longer than any pause of ours between two statements; a process that was stopped gives up its locks.
IDLE_TRANSACTION_SECONDS = 120
# A second after the server would have ended the statement itself.
GRACE_SECONDS = 1.0
PING_SECONDS = 2.0
# Whoever answered so lately is not asked first whether they are there.
FRESH_SECONDS = 1.0
# One plan for directories of all sizes is a bad one for the largest: it is made anew for what is asked, from what was
# read of the statement once.
_PLANNED = "-c plan_cache_mode=force_custom_plan"
# Statements that a connection keeps prepared, those used last. What the service asks again and again is about as many.
MOST_PREPARED = 200


@dataclass(frozen=True, slots=True)
class Patience:
    """How long is waited for the database.

    Attributes:
        seconds: for one statement; None: as long as it takes, for commands that somebody watches.
        pooled: whether there is a pooler of transactions between, which knows no options and no prepared statements.
        standby: whether of several servers one is wanted that only follows.
    """

    seconds: float | None = None
    pooled: bool = False
    standby: bool = False

    def arguments(self, url: str, name: str) -> dict[str, Any]:
        """Return what a connection is made with, beside its URL."""
        said = conninfo_to_dict(url)
        made: dict[str, Any] = {
            "connect_timeout": CONNECT_TIMEOUT_SECONDS,
            "application_name": name,
            # A machine that is gone is noticed, also by a connection that nobody uses.
            "keepalives_idle": 10,
            "keepalives_interval": 5,
            "keepalives_count": 3,
            "tcp_user_timeout": 20_000,
        }
        several = "," in f"{said.get('host') or ''}{said.get('hostaddr') or ''}"
        if several and not said.get("target_session_attrs"):
            # Of a primary and its standbys the one that takes changes, whichever it is by now.
            made["target_session_attrs"] = "prefer-standby" if self.standby else "read-write"
        if self.pooled:
            return made | {"prepare_threshold": None}
        # As on the disks of today. The server's own figure, for those that turn, has it read whole tables where a small
        # directory stands beside large ones. What the URL says of it comes later, and counts.
        options = ["-c random_page_cost=1.1", str(said.get("options") or "")]
        options.append(f"-c idle_in_transaction_session_timeout={IDLE_TRANSACTION_SECONDS}s")
        if self.seconds is not None:
            options.append(f"-c statement_timeout={int(self.seconds * 1000)}")
        return made | {"options": " ".join(filter(None, options))}

    @property
    def until_given_up(self) -> float | None:
        return self.seconds + GRACE_SECONDS if self.seconds is not None else None


class BoundedConnection(psycopg.Connection[Any]):
    """A connection that is closed when the server does not answer within `patience` seconds."""

    patience: float | None = None
    # When it was given back last, by a clock that only goes on.
    given_back: float = -FRESH_SECONDS

    def wait(self, gen: Any, interval: float = 0.1, timeout: float | None = None) -> Any:
        if timeout is not None:
            return super().wait(gen, interval, timeout=timeout)
        try:
            return super().wait(gen, interval, timeout=self.patience)
        except psycopg.OperationalError:
            if self.pgconn.transaction_status is TransactionStatus.ACTIVE:
                # It never answered: what state it is in cannot be known.
                self.close()
            raise

    def rollback(self) -> None:
        """Undo the transaction, and keep what is prepared: so does the server.

        The library would have all of it prepared anew, for the tables of a statement may be gone with the transaction
        that made them; ours make none. Reads end so, too: without this nothing would ever be prepared.
        """
        kept, self._prepared = self._prepared, PrepareManager()
        try:
            super().rollback()
        finally:
            self._prepared = kept

    @contextmanager
    def within(self, seconds: float) -> Iterator[None]:
        """Wait no longer than this for each answer, while the block lasts."""
        before, self.patience = self.patience, seconds
        try:
            yield
        finally:
            self.patience = before

    def is_fresh(self) -> bool:
        """Tell of a connection of the pool that it was used just now, and that its server said nothing since.

        A server that ends a connection says so, and then there is something to read.
        """
        if self.closed or time.monotonic() - self.given_back >= FRESH_SECONDS:
            return False
        heard = select.poll()
        heard.register(self.fileno(), select.POLLIN)
        return not heard.poll(0)

    def ping(self) -> None:
        """Raise `psycopg.Error` unless the server answers at once."""
        before = self.autocommit
        with self.within(PING_SECONDS):
            self.autocommit = True
            self.execute("select 1").fetchone()
            self.autocommit = before


class BoundedAsyncConnection(psycopg.AsyncConnection[Any]):
    """The same, of asyncio."""

    patience: float | None = None

    async def wait(self, gen: Any, interval: float = 0.1, timeout: float | None = None) -> Any:  # noqa: ASYNC109
        if timeout is not None:
            return await super().wait(gen, interval, timeout=timeout)
        try:
            return await super().wait(gen, interval, timeout=self.patience)
        except psycopg.OperationalError:
            if self.pgconn.transaction_status is TransactionStatus.ACTIVE:
                await self.close()
            raise


def connect(url: str, patience: Patience, name: str) -> BoundedConnection:
    """Connect to the database of a URL, or of any other connection string of libpq."""
    arguments = patience.arguments(url, name)
    if "options" in arguments:
        arguments["options"] = f"{_PLANNED} {arguments['options']}"
    made = BoundedConnection.connect(url, **arguments)
    made.patience, made.prepared_max = patience.until_given_up, MOST_PREPARED
    return made
