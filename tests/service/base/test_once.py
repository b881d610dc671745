"""What counts once is told apart while it is written, and an outage is heard by those whom it concerns, and by no other."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from datetime import UTC, datetime
from typing import Any

import pytest

from jamb.service.running.once import Once
from tests.own_loop import in_own_loop

ENDS = datetime(2030, 1, 1, tzinfo=UTC)


class Table:
    """Stands for the database: each statement waits to be let go."""

    def __init__(self) -> None:
        self.rows: set[tuple[str, bytes]] = set()
        self.statements: list[list[tuple[str, bytes]]] = []
        self.go = asyncio.Semaphore(0)
        self.away = False

    async def insert(self, _statement: str, values: dict[str, Any]) -> Sequence[tuple[Any, ...]]:
        sent = list(zip(values["clients"], values["digests"], strict=True))
        self.statements.append(sent)
        await self.go.acquire()
        if self.away:
            raise ConnectionError("away")
        new = [one for one in sent if one not in self.rows]
        self.rows |= set(new)
        return new


async def _gathered() -> None:
    table = Table()
    once = Once(table.insert)

    def asked(name: bytes, client: str = "c") -> asyncio.Task[bool]:
        return asyncio.create_task(once.first(client, name, ENDS))

    async def let_go() -> None:
        table.go.release()
        await asyncio.sleep(0.01)

    first = asked(b"1")
    await asyncio.sleep(0)
    await asyncio.sleep(0)
    # While the first is written, the others gather: one statement for all, in order, each of a pair once.
    others = [asked(b"3"), asked(b"2"), asked(b"3"), asked(b"1"), asked(b"1", "d")]
    await let_go()
    await let_go()
    assert await first
    assert [await one for one in others] == [True, True, False, False, True]
    assert table.statements == [[("c", b"1")], [("c", b"2"), ("c", b"3"), ("d", b"1")]]

    table.away = True
    lost = asked(b"4"), asked(b"5")
    await let_go()
    for one in lost:
        with pytest.raises(ConnectionError):
            await one
    table.away = False
    # Who gives up takes nobody along, and what was not written counts as new.
    gives_up, stays = asked(b"4"), asked(b"6")
    await asyncio.sleep(0)
    gives_up.cancel()
    await let_go()
    assert await stays
    again = asked(b"2")
    await let_go()
    assert not await again


def test_what_comes_at_once_is_written_at_once_and_counts_once() -> None:
    in_own_loop(_gathered())
