"""Forget what has run out by itself. Any number of processes may: each takes rows that no other holds."""

from __future__ import annotations

import asyncio

import structlog
from psycopg import Error as DriverError

from jamb.store.base.retention import FORGET
from jamb.store.connections.bounded import BoundedAsyncConnection, Patience
from jamb.store.connections.outages import reason_of
from jamb.store.connections.server import READ_CLOCK, clock_fault

EVERY_SECONDS = 60.0
_log = structlog.get_logger("jamb.retention")


async def forgetting(url: str, patience: Patience) -> None:
    """Forget every minute, for ever. What cannot be forgotten now is tried again with the others."""
    while True:
        await asyncio.sleep(EVERY_SECONDS)
        try:
            await forget(url, patience)
        except DriverError as error:
            _log.warning("nothing is forgotten, will try again", **reason_of(error))


async def forget(url: str, patience: Patience) -> None:
    """Forget what has run out by now, on a connection of its own: it takes its time."""
    async with await BoundedAsyncConnection.connect(
        url, autocommit=True, **patience.arguments(url, "jamb retention")
    ) as connection:
        connection.patience = patience.until_given_up
        (found,) = await (await connection.execute(READ_CLOCK)).fetchall()
        if fault := clock_fault(found[0]):
            _log.error("nothing is forgotten", reason=fault)
            return
        for name, statement in FORGET.items():
            try:
                await connection.execute(statement, {"now": found[0]})
            except DriverError as error:
                _log.warning("not forgotten, will try again", what=name, **reason_of(error))
                if connection.closed:
                    return
