"""Forget what has run out by itself, and put the parts of sums together. Any number of processes may."""

from __future__ import annotations

import asyncio

import structlog
from psycopg import Error as DriverError

from jamb.store.base.partitions import keep_parts
from jamb.store.base.retention import FORGET
from jamb.store.connections.bounded import BoundedAsyncConnection, Patience
from jamb.store.connections.outages import reason_of
from jamb.store.connections.server import READ_CLOCK, clock_fault
from jamb.store.directory.sums import PUT_TOGETHER

EVERY_SECONDS = 60.0
_log = structlog.get_logger("jamb.retention")


async def forgetting(url: str, patience: Patience) -> None:
    """Forget every minute, for ever. What cannot be forgotten now is tried again with the others."""
    while True:
        try:
            await forget(url, patience)
        except DriverError as error:
            _log.warning("nothing is forgotten, will try again", **reason_of(error))
        await asyncio.sleep(EVERY_SECONDS)


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
        parts = ((f"parts of {table}", statement, None) for table, statement in keep_parts(found[0].date()))
        rows = ((name, statement, {"now": found[0]}) for name, statement in FORGET.items())
        sums = ("parts of sums", PUT_TOGETHER, None)
        for name, statement, values in (*parts, *rows, sums):
            try:
                await connection.execute(statement, values)
            except DriverError as error:
                _log.warning("not forgotten, will try again", what=name, **reason_of(error))
                if connection.closed:
                    return
