"""What every request needs, built once per process: backend, keys, the driver's pool and the recorder."""

from __future__ import annotations

import time
from collections.abc import AsyncIterator, Collection, Mapping, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from psycopg import AsyncCursor, AsyncRawCursor, InterfaceError, OperationalError
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from jamb.actions.base.backend import Backend
from jamb.actions.base.own_uses import OwnUses
from jamb.actions.directory.addresses import former_addresses
from jamb.actions.resources.revocations import window
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings
from jamb.service.costly_work import Turns
from jamb.service.database_seats import Seats
from jamb.service.egress import Egress
from jamb.service.keys import Keyring
from jamb.service.oauth.outside_keys import OutsideKeys
from jamb.service.outside_sign_in import Providers
from jamb.service.running import traces
from jamb.service.running.background import Background
from jamb.service.running.clock import Clock, comparing
from jamb.service.running.once import Once
from jamb.service.running.own_uses import writing_uses
from jamb.service.running.readiness import Readiness
from jamb.service.running.recorder import Recorder
from jamb.service.running.retention import forgetting
from jamb.service.running.standby_age import beating
from jamb.service.running.waiting import Watch
from jamb.store.base.driver import Numbered
from jamb.store.connections.bounded import GRACE_SECONDS, BoundedAsyncConnection, Patience
from jamb.store.connections.engine import make_engine
from jamb.store.connections.outages import driver_outage
from jamb.store.connections.server import READ_CLOCK
from jamb.store.connections.standby import Standby
from jamb.store.connections.traces import trace_statements
from jamb.store.entry.tokens import CERTIFICATES_SINCE
from jamb.store.resources.taken_away import MARKS, Mark, marks_in

POOL_TIMEOUT_SECONDS = 3.0
# After an outage: how long until the pool tries again to connect, at most.
RECONNECT_SECONDS = 2.0
# A token request waits no longer for the database, however often a connection turns out to be dead.
READ_SECONDS = 4.0
# A read that finds no connection to the standby goes to the primary.
STANDBY_TIMEOUT_SECONDS = 0.5
_Pool = AsyncConnectionPool[BoundedAsyncConnection]


class Reader:
    """Runs one read on the driver, prepared where no pooler is between, and returns its rows.

    An outage becomes `StoreUnavailable`.
    """

    def __init__(self, pool: _Pool, *, prepared: bool) -> None:
        self._pool = pool
        self._prepared = prepared

    def connections(self) -> tuple[int, int]:
        """Return how many connections the pool has, and how many of them are free."""
        found = self._pool.get_stats()
        return found.get("pool_size", 0), found.get("pool_available", 0)

    async def moment(self) -> datetime:
        """Return the database's time."""
        found: datetime = (await self.rows(READ_CLOCK, {}))[0][0]
        return found

    async def certificates(self, place: tuple[datetime, UUID], most: int) -> list[tuple[bytes, datetime, UUID]]:
        """Return certificates of clients (DER) that were registered after a moment and id, with theirs, in order."""
        wanted = {"since": place[0], "after": place[1], "most": most}
        return [(bytes(der), at, key) for der, at, key in await self.rows(CERTIFICATES_SINCE, wanted)]

    async def marks(self, resource_ids: Collection[UUID], times: Mapping[str, datetime]) -> Mapping[UUID, Mark]:
        """Return by what the answers for guards of these resources are known now. `times`: `revocations.window`."""
        return marks_in(await self.rows(MARKS, {"ids": [*resource_ids], **times}))

    async def rows(self, statement: str | Numbered, parameters: dict[str, Any]) -> Sequence[tuple[Any, ...]]:
        ends = time.monotonic() + READ_SECONDS
        connection: BoundedAsyncConnection | None = None
        while True:
            try:
                # One statement is a transaction of its own: the pool's context manager would commit it once more.
                connection = await self._pool.getconn()
                try:
                    cursor = await self._execute(connection, statement, parameters)
                    return await cursor.fetchall()
                finally:
                    await self._pool.putconn(connection)
            except PoolTimeout as error:
                raise driver_outage(error, self._pool) from error
            except (OperationalError, InterfaceError) as error:
                # A restarted server leaves dead connections in the pool, which fail at once: the next may be alive.
                if connection is None or not connection.broken or time.monotonic() > ends:
                    raise driver_outage(error) from error

    async def _execute(
        self, connection: BoundedAsyncConnection, statement: str | Numbered, parameters: dict[str, Any]
    ) -> AsyncCursor[tuple[Any, ...]]:
        if isinstance(statement, Numbered):
            values = statement.values(parameters)
            return await AsyncRawCursor(connection).execute(statement.text, values, prepare=self._prepared, binary=True)
        return await connection.execute(statement, parameters, prepare=self._prepared, binary=True)


@dataclass(slots=True)
class Runtime:
    settings: Settings
    backend: Backend
    keyring: Keyring
    reader: Reader
    once: Once
    recorder: Recorder
    outside_keys: OutsideKeys
    background: Background
    egress: Egress
    turns: Turns
    seats: Seats
    # What goes on beside requests has connections of its own, on which a statement may take longer.
    work: Backend
    readiness: Readiness
    clock: Clock
    providers: Providers
    watch: Watch
    standby: Standby | None = None


@asynccontextmanager
async def open_runtime(settings: Settings) -> AsyncIterator[Runtime]:
    """Open the pools, run until the block ends, then flush what is recorded and close."""
    uses = OwnUses()
    backend = replace(backend_for_requests(settings), own_uses=uses)
    work_patience = Patience(settings.work_statement_seconds, settings.database_pooled)
    work_engine = make_engine(
        settings.database(),
        work_patience,
        pool_size=settings.work_pool_size,
        name="jamb work",
    )
    pool = _token_pool(settings)
    await pool.open(wait=False)
    egress = Egress(settings.inner())
    prepared = not settings.database_pooled
    recorder, reader = Recorder(pool, prepared=prepared), Reader(pool, prepared=prepared)
    outside_keys = OutsideKeys(egress)
    background, clock = Background(), Clock()
    watch = Watch(lambda ids: reader.marks(ids, window(clock.now())))
    standby = _standby(settings)
    if traces.are_wanted():
        trace_statements(backend.engine)
        trace_statements(work_engine)
    try:
        async with (
            recorder.running(background),
            writing_uses(background, uses, backend.engine),
            background.doing("watch", watch.look),
            background.doing("clock", lambda: comparing(clock, reader.moment)),
            background.doing("pulse", lambda: beating(standby, work_engine)),
            background.doing("retention", lambda: forgetting(settings.database(), work_patience)),
        ):
            yield Runtime(
                settings,
                backend,
                Keyring(backend),
                reader,
                Once(reader.rows),
                recorder,
                outside_keys,
                background,
                egress,
                Turns(settings.turn_seconds),
                Seats(settings.pool_size),
                replace(backend, engine=work_engine),
                Readiness(),
                clock,
                Providers(egress, settings.inner()),
                watch,
                standby,
            )
    finally:
        await egress.close()
        await pool.close()
        work_engine.dispose()
        if standby is not None:
            standby.engine.dispose()
        backend.engine.dispose()


def backend_for_requests(settings: Settings) -> Backend:
    """Return what requests stand on, in a database that was looked at before (`commands.backend.look_before_starting`).

    Raises:
        Misuse: the sealing key is missing or another.
    """
    patience = Patience(settings.statement_seconds, settings.database_pooled)
    engine = make_engine(settings.database(), patience, pool_size=settings.pool_size)
    backend = Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url)
    return replace(backend, formers=former_addresses(backend, datetime.now(UTC)), passkey_host=settings.passkeys_at())


def _standby(settings: Settings) -> Standby | None:
    if settings.standby_url is None:
        return None
    engine = make_engine(
        settings.standby_url.get_secret_value(),
        Patience(settings.statement_seconds, standby=True),
        pool_size=settings.work_pool_size,
        pool_timeout=STANDBY_TIMEOUT_SECONDS,
        name="jamb reads",
    )
    return Standby(engine, settings.standby_seconds)


def _token_pool(settings: Settings) -> _Pool:
    patience = Patience(READ_SECONDS - GRACE_SECONDS, settings.database_pooled)

    async def patient(connection: BoundedAsyncConnection) -> None:
        connection.patience = patience.until_given_up

    return AsyncConnectionPool(
        settings.database(),
        connection_class=BoundedAsyncConnection,
        min_size=1,
        max_size=settings.token_pool_size,
        timeout=POOL_TIMEOUT_SECONDS,
        reconnect_timeout=RECONNECT_SECONDS,
        open=False,
        configure=patient,
        kwargs={"autocommit": True, **patience.arguments(settings.database(), "jamb tokens")},
    )
