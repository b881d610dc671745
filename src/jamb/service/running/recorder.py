"""Records of token requests, written in groups.

A failure is answered only after its record is committed. Successes wait for nobody: at most `GROUP_SECONDS` of them are
lost with the process. While the database is away, successes are kept up to a bound, oldest dropped first.

What a stranger may send without end is bounded: equal refusals of one minute are one row that counts them. Beyond a
number of different ones a row says how many more there were: of a client, of unknown clients by address, and in all. A
row that the database will not have is left out and logged; the others of its group are written.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections import Counter, deque
from collections.abc import AsyncIterator, Collection, Iterable
from contextlib import asynccontextmanager, suppress
from datetime import date, datetime
from typing import Any, NamedTuple
from uuid import UUID

import structlog
from psycopg import Error as DriverError
from psycopg import InterfaceError, OperationalError
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from jamb.core.addresses import network_of
from jamb.core.clients.attempts import Outcome
from jamb.service.running.background import Background
from jamb.store.connections.bounded import BoundedAsyncConnection
from jamb.store.connections.outages import driver_outage, reason_of
from jamb.store.entry.tokens import NOTE_GRANT_TYPES, NOTE_NETWORKS, RECORD_ATTEMPTS, TOUCH_CREDENTIALS

GROUP_SECONDS = 0.25
MOST_KEPT = 50_000
# Different refusals of one minute that a process keeps apart: of a client, or of unknown ones from an address; and in a
# directory.
MOST_APART_OF_ONE = 60
MOST_APART = 1200
# How many pairs of a client with a network, and with a grant type, a process remembers, so as to note each once a day.
MOST_PAIRS_KNOWN = 100_000
_log = structlog.get_logger("jamb.recorder")


class Attempt(NamedTuple):
    """One token request; the fields before `credential_id` are the columns of the table, in order."""

    directory_id: UUID
    client_id: str
    at: datetime
    outcome: Outcome
    hint: str
    resource: str
    detail: str
    address: str
    user_agent: str
    credential_id: UUID | None = None
    grant_type: str = ""


class NotedToday:
    """What this process noted of clients on this day already: pairs of a client and what it came by."""

    def __init__(self) -> None:
        self._pairs: set[tuple[str, str]] = set()
        self._day = date.min

    def new(self, seen: Iterable[tuple[str, str, datetime]]) -> dict[tuple[str, str], datetime]:
        """Return the pairs that were not noted today, and when each was seen first; what is empty counts for none."""
        found: dict[tuple[str, str], datetime] = {}
        for client_id, what, at in seen:
            if at.date() > self._day:
                self._pairs, self._day = set(), at.date()
            if what and (client_id, what) not in self._pairs:
                found.setdefault((client_id, what), at)
        return found

    def noted(self, pairs: Collection[tuple[str, str]]) -> None:
        if len(self._pairs) + len(pairs) <= MOST_PAIRS_KNOWN:
            self._pairs |= set(pairs)


class Recorder:
    def __init__(self, pool: AsyncConnectionPool[BoundedAsyncConnection], *, prepared: bool) -> None:
        self._pool = pool
        self._prepared = prepared
        self._kept: deque[Attempt] = deque(maxlen=MOST_KEPT)
        self._waiting: list[tuple[Attempt, asyncio.Future[None]]] = []
        self._wake = asyncio.Event()
        self._writing = asyncio.Lock()
        self._minute = 0
        self._apart: set[bytes] = set()
        self._apart_of: Counter[tuple[UUID, str, str]] = Counter()
        self.left_out = 0
        self._networks, self._grant_types = NotedToday(), NotedToday()

    def note(self, attempt: Attempt) -> None:
        """Keep a success for the next group."""
        self._kept.append(attempt)

    async def record(self, attempt: Attempt) -> None:
        """Return when the record is committed. Raises `StoreUnavailable` or `Busy` if it cannot be."""
        done: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append((attempt, done))
        self._wake.set()
        await done

    @asynccontextmanager
    async def running(self, background: Background) -> AsyncIterator[None]:
        try:
            async with background.doing("recorder", self._run):
                yield
        finally:
            await self._write()

    async def _run(self) -> None:
        while True:
            with suppress(TimeoutError):
                async with asyncio.timeout(GROUP_SECONDS):
                    await self._wake.wait()
            self._wake.clear()
            # Whoever stops the service does not take back a group that is on its way: the last write waits for it.
            await asyncio.shield(self._write())

    async def _write(self) -> None:
        async with self._writing:
            await self._write_group()

    async def _write_group(self) -> None:
        if not self._kept and not self._waiting:
            return
        successes, waiting = list(self._kept), self._waiting
        self._kept.clear()
        self._waiting = []
        failure: BaseException | None = RuntimeError("not written")
        try:
            await self._insert([*successes, *(attempt for attempt, _ in waiting)])
            failure = None
        except (DriverError, PoolTimeout) as error:
            failure = driver_outage(error, self._pool)
            _log.warning("attempts not written", kept=len(successes), failed=len(waiting), **reason_of(error))
            self._kept.extendleft(reversed(successes))
        finally:
            # Whatever happened, nobody waits for ever.
            for _, done in waiting:
                if not done.done():
                    done.set_exception(failure) if failure is not None else done.set_result(None)

    async def _insert(self, attempts: list[Attempt]) -> None:
        rows = self._rows(attempts)
        try:
            await self._execute(rows, attempts)
        except (OperationalError, InterfaceError, PoolTimeout):
            raise
        except Exception as error:  # noqa: BLE001 - one row that cannot be written takes no other with it
            _log.warning("a group was refused, and is written row by row", rows=len(rows), **reason_of(error))
            for row in rows:
                await self._insert_alone(row)

    async def _insert_alone(self, row: tuple[Any, ...]) -> None:
        try:
            await self._execute([row], [])
        except (OperationalError, InterfaceError, PoolTimeout):
            raise
        except Exception as error:  # noqa: BLE001 - the others of its group are written
            self.left_out += 1
            _log.exception("a record was left out", outcome=row[3], error=type(error).__name__)

    async def _execute(self, rows: list[tuple[Any, ...]], attempts: Iterable[Attempt]) -> None:
        touched: dict[UUID, datetime] = {}
        for attempt in attempts:
            if attempt.credential_id is not None and attempt.outcome is Outcome.ISSUED:
                touched[attempt.credential_id] = attempt.at
        got = [attempt for attempt in attempts if attempt.outcome is Outcome.ISSUED]
        networks = self._networks.new((one.client_id, network_of(one.address), one.at) for one in got)
        grant_types = self._grant_types.new((one.client_id, one.grant_type, one.at) for one in got)
        columns = [list(column) for column in zip(*rows, strict=True)]
        async with self._pool.connection() as connection, connection.transaction():
            await connection.execute(RECORD_ATTEMPTS, columns, prepare=self._prepared)
            if touched:
                await connection.execute(
                    TOUCH_CREDENTIALS, [list(touched), list(touched.values())], prepare=self._prepared
                )
            for statement, found in ((NOTE_NETWORKS, networks), (NOTE_GRANT_TYPES, grant_types)):
                if found:
                    pairs = sorted(found)
                    told = [[key for key, _ in pairs], [what for _, what in pairs], [found[pair] for pair in pairs]]
                    await connection.execute(statement, told, prepare=self._prepared)
        self._networks.noted(networks)
        self._grant_types.noted(grant_types)

    def _rows(self, attempts: list[Attempt]) -> list[tuple[Any, ...]]:
        """Return the rows to write: a success each, equal refusals as one; in an order that two processes share."""
        rows: list[tuple[Any, ...]] = []
        counted: dict[bytes, tuple[Attempt, int]] = {}
        for attempt in attempts:
            if attempt.outcome is Outcome.ISSUED:
                rows.append(_row(attempt, 1, b""))
                continue
            kept, digest = self._kept_apart(attempt)
            _, times = counted.get(digest, (kept, 0))
            counted[digest] = (kept, times + 1)
        rows += [_row(attempt, times, digest) for digest, (attempt, times) in sorted(counted.items())]
        return rows

    def _kept_apart(self, attempt: Attempt) -> tuple[Attempt, bytes]:
        """Return a refusal as it is kept, with what makes it equal to others of its minute."""
        minute = int(attempt.at.timestamp()) // 60
        if minute != self._minute:
            self._minute = minute
            self._apart.clear()
            self._apart_of.clear()
        digest = _digest(attempt, minute)
        if digest in self._apart:
            return attempt, digest
        # An id that no client has is whatever somebody wrote: what is the same about them is from where they come.
        known = attempt.outcome is not Outcome.UNKNOWN_CLIENT
        client_id, address = (attempt.client_id, "") if known else ("", attempt.address)
        of_one, in_all = (attempt.directory_id, client_id, address), (attempt.directory_id, "", "")
        if self._apart_of[of_one] >= MOST_APART_OF_ONE:
            attempt = _many(attempt, client_id, address)
        elif self._apart_of[in_all] >= MOST_APART:
            attempt = _many(attempt, "", "")
        else:
            self._apart.add(digest)
            self._apart_of.update((of_one, in_all))
            return attempt, digest
        return attempt, _digest(attempt, minute)


def _many(attempt: Attempt, client_id: str, address: str) -> Attempt:
    return attempt._replace(
        client_id=client_id,
        hint="",
        resource="",
        user_agent="",
        address=address,
        outcome=Outcome.TOO_MANY,
        detail="further refusals of this minute, of many kinds, counted together",
    )


def _digest(attempt: Attempt, minute: int) -> bytes:
    parts = (str(minute), str(attempt.directory_id), attempt.client_id, attempt.outcome.value, *attempt[4:9])
    return hashlib.sha256("\0".join(map(str, parts)).encode(errors="backslashreplace")).digest()


def _row(attempt: Attempt, times: int, digest: bytes) -> tuple[Any, ...]:
    # The driver writes an enum by its name; the column holds its value.
    return (*attempt[:3], attempt.outcome.value, *attempt[4:9], times, digest)
