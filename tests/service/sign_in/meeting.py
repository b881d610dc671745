"""Somebody comes while a change is made and not committed yet: neither sees the other by itself."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from typing import Any, TypeVar

from tests.world import World, wait_until

AnswerT = TypeVar("AnswerT")
LEDGER = "select from ledger_head where directory_id = (select id from directory where slug = %s) for update"
_WAITS = "select count(*) from pg_stat_activity where cardinality(pg_blocking_pids(pid)) > 0"


def met(
    world: World, changes: Callable[[], Any], comes: Callable[[], AnswerT], lock: str = LEDGER, of: str = "quillhaven"
) -> AnswerT:
    """Let a change go on until it waits for this lock, then let somebody come; return what they are answered."""
    with ThreadPoolExecutor(2) as pool:
        with world.database() as database, database.transaction(), world.database() as watching:

            def waiting() -> int:
                return int(watching.execute(_WAITS).fetchone()[0])  # type: ignore[index]

            database.execute(lock, [of])
            changing = pool.submit(changes)
            wait_until(lambda: changing.done() or waiting() == 1)
            assert not changing.done()
            coming = pool.submit(comes)
            wait_until(lambda: coming.done() or waiting() == 2)
        changing.result()
        return coming.result()
