"""What every request needs, built once per process: backend, keys, the driver's pool and the recorder."""

from __future__ import annotations

from collections.abc import AsyncIterator, Sequence
from contextlib import asynccontextmanager
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from psycopg import AsyncConnection, InterfaceError, OperationalError
from psycopg_pool import AsyncConnectionPool, PoolTimeout

from jamb.actions.base.backend import Backend
from jamb.service.egress import Egress
from jamb.service.keys import Keyring
from jamb.service.oauth.outside_keys import OutsideKeys
from jamb.service.running.background import Background
from jamb.service.running.recorder import Recorder
from jamb.service.running.retention import forgetting
from jamb.service.sealing import sealer_for
from jamb.service.seats import Seats
from jamb.service.settings import Settings
from jamb.service.turns import Turns
from jamb.store.base.engine import driver_outage, driver_url, make_engine, unavailable

POOL_TIMEOUT_SECONDS = 3.0


class Reader:
    """Runs one prepared read on the driver and returns its rows; an outage becomes `StoreUnavailable`."""

    def __init__(self, pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]]) -> None:
        self._pool = pool

    async def rows(self, statement: str, parameters: dict[str, Any]) -> Sequence[tuple[Any, ...]]:
        for again in (True, False):
            try:
                async with self._pool.connection() as connection:
                    cursor = await connection.execute(statement, parameters, prepare=True, binary=True)
                    return await cursor.fetchall()
            except PoolTimeout as error:
                raise driver_outage(error, self._pool) from error
            except (OperationalError, InterfaceError) as error:
                # A restarted server leaves dead connections in the pool: replace them all, then try once more.
                if not again:
                    raise unavailable() from error
                await self._pool.check()
        raise AssertionError("unreachable")


@dataclass(slots=True)
class Runtime:
    settings: Settings
    backend: Backend
    keyring: Keyring
    reader: Reader
    recorder: Recorder
    outside_keys: OutsideKeys
    background: Background
    egress: Egress
    turns: Turns
    seats: Seats


@asynccontextmanager
async def open_runtime(settings: Settings) -> AsyncIterator[Runtime]:
    """Open the pools, run until the block ends, then flush what is recorded and close."""
    engine = make_engine(settings.database())
    backend = Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url)
    pool: AsyncConnectionPool[AsyncConnection[tuple[Any, ...]]] = AsyncConnectionPool(
        driver_url(settings.database()),
        min_size=1,
        max_size=8,
        timeout=POOL_TIMEOUT_SECONDS,
        open=False,
        kwargs={"autocommit": True, "connect_timeout": 3, "application_name": "jamb tokens"},
    )
    await pool.open(wait=False)
    egress = Egress(settings.inner())
    recorder, reader, outside_keys = Recorder(pool), Reader(pool), OutsideKeys(egress)
    background = Background()
    try:
        async with recorder.running(background), background.doing("retention", lambda: forgetting(pool)):
            yield Runtime(
                settings,
                backend,
                Keyring(backend),
                reader,
                recorder,
                outside_keys,
                background,
                egress,
                Turns(settings.turn_seconds),
                Seats(),
            )
    finally:
        await egress.close()
        await pool.close()
        backend.engine.dispose()
