"""Work beside the requests: what expires is begun again and told; what fails in a round holds up nobody else."""

from __future__ import annotations

import asyncio
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from pydantic import SecretStr

from jamb.actions.base import hashing
from jamb.actions.base.duties import do_all
from jamb.core.clients.attempts import Outcome
from jamb.core.directory.duties import Duty, pause_after
from jamb.core.errors import TooManyTries
from jamb.service.config.settings import Settings
from jamb.service.costly_work import Turns
from jamb.service.running import background
from jamb.service.running.background import Background, ended_by_itself
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime
from jamb.service.work import queue
from tests.attacks.rounds import in_a_runtime
from tests.own_loop import in_own_loop
from tests.world import World, unique


async def until(happened: Callable[[], bool]) -> None:
    async with asyncio.timeout(60):
        while not happened():  # noqa: ASYNC110 - what is looked at tells nobody
            await asyncio.sleep(0.01)


def test_work_that_tidies_up_is_cancelled_once_and_has_a_time_to_end(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(background, "CANCEL_AGAIN_SECONDS", 0.01)
    ended: list[str] = []

    async def tidy(name: str, seconds: float) -> None:
        try:
            await asyncio.Event().wait()
        except asyncio.CancelledError:
            await asyncio.sleep(seconds)
            ended.append(name)
            raise

    async def stop(name: str, seconds: float) -> float:
        began = asyncio.get_running_loop().time()
        async with Background().doing(name, lambda: ended_by_itself(tidy(name, seconds), 0.5)):
            await asyncio.sleep(0)
            await asyncio.sleep(0)
        return asyncio.get_running_loop().time() - began

    async def watch() -> None:
        await stop("in time", 0.1)
        assert ended == ["in time"]
        assert await stop("never", 60) < 30
        assert ended == ["in time"]

    in_own_loop(watch())


def test_work_that_ends_is_begun_again_counted_and_unwell_until_it_goes_on(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(background, "FIRST_PAUSE_SECONDS", 0.01)
    monkeypatch.setattr(background, "WELL_SECONDS", 0.2)
    ways = iter([ValueError("broken"), None])

    async def work() -> None:
        way = next(ways, "goes on")
        if isinstance(way, Exception):
            raise way
        if way is not None:
            await asyncio.Event().wait()

    async def watch() -> None:
        kept = Background()
        async with kept.doing("thing", work):
            await until(lambda: kept.works["thing"].restarts == 2)
            assert kept.unwell() == ["thing"], "it is away, or was a moment ago"
            await until(lambda: kept.unwell() == [])
        assert kept.works == {}

    in_own_loop(watch())


def test_work_that_misses_that_it_is_to_end_is_told_again(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(background, "CANCEL_AGAIN_SECONDS", 0.05)
    monkeypatch.setattr(background, "FIRST_PAUSE_SECONDS", 0.01)
    missed: list[bool] = []

    async def work() -> None:
        try:
            await asyncio.Event().wait()
        except asyncio.CancelledError:
            if missed:
                raise
            # As a driver does whose statement fails while it is taken back.
            missed.append(True)
            raise OSError("deadlock detected") from None

    async def begin_and_end() -> None:
        async with Background().doing("thing", work):
            await asyncio.sleep(0.05)

    async def watch() -> bool:
        ended, _ = await asyncio.wait([asyncio.create_task(begin_and_end())], timeout=5)
        return bool(ended)

    assert in_own_loop(watch()), "it goes on for ever"
    assert missed


def attempt_of(office_directory: Any, client_id: str, detail: str, outcome: Outcome = Outcome.NO_SECRET) -> Attempt:
    return Attempt(office_directory, client_id, datetime.now(UTC), outcome, "", "", detail, "127.0.0.1", "test")


def test_a_row_that_the_database_refuses_takes_no_other_of_its_group_with_it(world: World) -> None:
    made = unique("client")
    with world.database() as database:
        directory = database.execute("select id from directory where slug = 'quillhaven'").fetchone()[0]

    async def write(runtime: Runtime) -> None:
        bad = [attempt_of(directory, made, text) for text in ("a\0b", "\ud800")]
        good = [attempt_of(directory, made, f"good {number}") for number in range(3)]
        runtime.recorder.note(attempt_of(directory, made, "issued", Outcome.ISSUED))
        async with asyncio.timeout(60):
            await asyncio.gather(*(runtime.recorder.record(one) for one in (*bad, *good)))
        assert runtime.recorder.left_out == 2
        # It goes on, for whoever comes next.
        async with asyncio.timeout(60):
            await runtime.recorder.record(attempt_of(directory, made, "later"))
        assert runtime.background.unwell() == []

    in_a_runtime(world, write)
    with world.database() as database:
        kept = database.execute("select detail from attempt where client_id = %s", [made]).fetchall()
    assert sorted(one for (one,) in kept) == ["good 0", "good 1", "good 2", "issued", "later"]


def test_a_directory_whose_round_fails_holds_up_no_other_and_is_tried_again_later(
    world: World, monkeypatch: pytest.MonkeyPatch
) -> None:
    done: list[str] = []

    def sweep(_backend: Any, slug: str, _now: datetime, **_: Any) -> None:
        if slug == "brisling":
            raise ValueError("a row that nobody thought of")
        done.append(slug)

    monkeypatch.setattr(queue, "sweep", sweep)
    monkeypatch.setattr(queue, "close_due", lambda _backend, slug, _now: done.append(f"{slug} closed"))
    monkeypatch.setattr(queue, "_tell", lambda _office, slug, _now: done.append(f"{slug} told"))
    in_a_runtime(world, lambda runtime: queue.do_rounds(runtime, queue.rounds_of))
    in_a_runtime(world, lambda runtime: queue.do_rounds(runtime, queue.rounds_of))
    assert {"quillhaven", "quillhaven-trial", "brisling told", "brisling closed"} <= set(done)
    with world.jamb("steward", "brisling") as jamb:
        (failing,) = jamb.notices.failing_duties()
        assert (failing.duty, failing.failures) == (Duty.EVALUATE, 1), "put aside, and not tried at once"
        assert "ValueError" in failing.error
        assert "nobody thought of" not in failing.error, "an error of another's may hold values"

        async def work_again(runtime: Runtime) -> Any:
            later = datetime.now(UTC) + timedelta(hours=2)
            return do_all(runtime.backend, "brisling", {Duty.EVALUATE: lambda: None}, later)

        assert in_a_runtime(world, work_again) == {}
        assert jamb.notices.failing_duties() == []


def test_a_duty_that_fails_waits_longer_each_time() -> None:
    waits = [pause_after(failures) for failures in range(1, 100)]
    assert waits == sorted(waits)
    assert (waits[0], waits[-1]) == (timedelta(minutes=1), timedelta(hours=1))


def test_only_a_process_with_a_mail_server_works_on_what_needs_one(world: World) -> None:
    without, with_one = Settings(), Settings(smtp_url=SecretStr("smtp://127.0.0.1:25"))

    async def tasks(runtime: Runtime) -> dict[str, str]:
        return {
            name: task.queue
            for name, task in queue.make_queue(runtime).tasks.items()
            if name in {"look", "push", "post", "rotate"}
        }

    found = in_a_runtime(world, tasks)
    needing = {name for name, place in found.items() if place not in queue.queues_of(without)}
    assert needing == {"post", "rotate"}
    assert set(found.values()) <= set(queue.queues_of(with_one))


def test_turns_are_few_known_devices_first_and_nobody_waits_for_ever() -> None:
    async def crowd() -> list[str]:
        turns, order, gate = Turns(seconds=0.5), [], asyncio.Event()

        async def come(name: str, *, known: bool = False) -> None:
            try:
                async with turns.turn(name, known=known):
                    order.append(name)
                    await gate.wait()
            except TooManyTries as error:
                order.append(f"{name} in {error.retry_after_seconds}")

        tasks = [asyncio.create_task(come(f"stranger {number}")) for number in range(4)]
        await asyncio.sleep(0.05)
        tasks.append(asyncio.create_task(come("known", known=True)))
        # One goes away while it waits, and takes no turn along.
        await asyncio.sleep(0.05)
        tasks[2].cancel()
        gate.set()
        await asyncio.gather(*tasks, return_exceptions=True)
        gate.clear()
        tasks = [asyncio.create_task(come(f"late {number}")) for number in range(3)]
        await asyncio.sleep(0.8)
        gate.set()
        await asyncio.gather(*tasks)
        return order

    assert in_own_loop(crowd()) == [
        "stranger 0",
        "stranger 1",
        "known",
        "stranger 3",
        "late 0",
        "late 1",
        "late 2 in 3",
    ]


def test_stretching_is_bounded_in_all_and_by_address_with_places_for_known_devices() -> None:
    pool, gate = hashing.Hashing(), threading.Event()
    places = hashing.AT_ONCE + hashing.MOST_WAITING
    with ThreadPoolExecutor(places + hashing.KEPT_FOR_KNOWN) as crowd:
        addresses = [f"address {number // hashing.MOST_OF_ADDRESS}" for number in range(places)]
        waiting = [crowd.submit(pool.run, gate.wait, address) for address in addresses]
        while pool.waiting() < places:
            threading.Event().wait(0.01)
        with pytest.raises(TooManyTries):
            pool.run(gate.wait, addresses[0])
        with pytest.raises(TooManyTries):
            pool.run(gate.wait, "another")
        known = crowd.submit(pool.run, gate.wait, "another", known=True)
        gate.set()
        assert known.result(10)
        assert all(one.result(10) for one in waiting)
    assert pool.run(lambda: 7, addresses[0]) == 7
