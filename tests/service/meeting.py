"""Somebody comes while a change is made and not committed yet: neither sees the other by itself."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from typing import Any, TypeVar

from tests.world import World, wait_until

AnswerT = TypeVar("AnswerT")
LEDGER = "select from ledger_head where directory_id = (select id from directory where slug = %s) for update"
_WAITING = "select pid from pg_stat_activity where cardinality(pg_blocking_pids(pid)) > 0"


@contextmanager
def held_up(
    world: World, act: Callable[[], Any], lock: str = LEDGER, of: str = "quillhaven"
) -> Iterator[Callable[[], int]]:
    """Do the block while a change waits for this lock; yield what tells how many others wait, for whomever."""
    with ThreadPoolExecutor(1) as pool:
        with world.database() as database, database.transaction(), world.database() as watching:

            def waiting() -> set[int]:
                return {pid for (pid,) in watching.execute(_WAITING)}

            database.execute(lock, [of] if "%s" in lock else [])
            going = pool.submit(act)
            wait_until(lambda: going.done() or bool(waiting()))
            assert not going.done()
            before = waiting()
            yield lambda: len(waiting() - before)
        going.result()


def met(
    world: World, changes: Callable[[], Any], comes: Callable[[], AnswerT], lock: str = LEDGER, of: str = "quillhaven"
) -> AnswerT:
    """Let a change go on until it waits for this lock, then let somebody come; return what they are answered."""
    with ThreadPoolExecutor(1) as pool:
        with held_up(world, changes, lock, of) as others:
            coming = pool.submit(comes)
            wait_until(lambda: coming.done() or others() > 0)
        return coming.result()
