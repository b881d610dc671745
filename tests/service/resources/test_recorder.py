"""Records of token requests: what a kill may cost, and what it may not."""

from __future__ import annotations

import os
import signal
import time
from concurrent.futures import ThreadPoolExecutor
from threading import Timer

from jamb.service.running.recorder import GROUP_SECONDS
from tests import patient
from tests.warm import warm
from tests.world import BERTHS, Made, World, answers, unique, wait_until


def ask(url: str, made: Made, secret: str) -> int:
    form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": secret, "resource": BERTHS}
    return patient.post(f"{url}/d/quillhaven/token", data=form, headers={"User-Agent": "recorder-test"}).status_code


def counted(world: World, made: Made) -> dict[str, int]:
    with world.database() as database:
        rows = database.execute(
            "select outcome, sum(times) from attempt where client_id = %s group by outcome", [made.id]
        )
        return dict(rows.fetchall())


def test_a_killed_process_loses_no_failure_and_at_most_the_last_moments_successes(world: World) -> None:
    made = world.client(granted=["berths.view"])
    port = world.port + 8
    environment = {
        **os.environ,
        "JAMB_HOME": str(world.home),
        "JAMB_PORT": str(port),
        "JAMB_PUBLIC_URL": world.base_url,
        "JAMB_DATABASE_URL": world.cluster.url,
    }
    url = f"http://127.0.0.1:{port}"
    process = warm("jamb-service").start(["serve"], environment)
    try:
        wait_until(lambda: answers(f"{url}/ready"))
        started = time.monotonic()
        early = [ask(url, made, made.secret) for _ in range(20)]
        time.sleep(2 * GROUP_SECONDS)
        with ThreadPoolExecutor(8) as pool:
            failed = list(pool.map(lambda number: ask(url, made, f"wrong {number}"), range(40)))
        late = [ask(url, made, made.secret) for _ in range(5)]
        took = time.monotonic() - started
    finally:
        process.send_signal(signal.SIGKILL)
        process.wait()
    assert set(early + late) == {200}
    assert set(failed) == {401}
    found = counted(world, made)
    assert found["secret-unknown"] == 40, "every failure that was answered is there"
    assert 20 <= found["issued"] <= 25, f"in {took:.1f} s only what was younger than a group may be lost"


def test_a_stopped_process_writes_what_it_kept_and_what_is_on_its_way(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.database() as database, world.second_process(world.port + 9) as second:
        database.execute("begin")
        database.execute("lock table attempt in share mode")
        assert [ask(second, made, made.secret) for _ in range(20)] == [200] * 20
        time.sleep(2 * GROUP_SECONDS)
        assert [ask(second, made, made.secret) for _ in range(10)] == [200] * 10
        # It is told to stop while a group waits for the table, and others are not even begun.
        Timer(1, database.execute, ["commit"]).start()
    assert counted(world, made) == {"issued": 30}
    with world.jamb() as jamb:
        attempts = list(jamb.clients.attempts(made.id))
    assert {(one.user_agent, one.address, one.detail) for one in attempts} == {
        ("recorder-test", "127.0.0.1", "berths.view")
    }


def test_attempts_of_one_secret_from_two_processes_do_not_block_each_other(world: World) -> None:
    first, second = world.client(granted=["berths.view"]), world.client(granted=["berths.view"])
    with world.second_process(world.port + 9) as other:

        def many(number: int) -> int:
            made = [first, second][number % 2]
            return ask([world.base_url, other][number // 2 % 2], made, made.secret)

        with ThreadPoolExecutor(8) as pool:
            assert set(pool.map(many, range(200))) == {200}
        wait_until(lambda: counted(world, first)["issued"] == counted(world, second)["issued"] == 100)
    logs = (world.home / "second.log").read_text()
    assert "deadlock" not in logs
    assert "attempts not written" not in logs.rpartition("Started server process")[2]


def test_what_a_caller_sends_is_kept_short_and_never_the_secret(world: World) -> None:
    made = world.client(granted=["berths.view"])
    patient.post(
        world.token_endpoint(),
        data={
            "grant_type": "client_credentials",
            "client_id": made.id,
            "client_secret": made.secret,
            "resource": "https://" + "x" * 900,
            "scope": unique("scope"),
        },
        headers={"User-Agent": "agent" * 200},
    )
    (failure,) = world.failures(made.id)
    assert failure["outcome"] == "unknown-resource"
    assert len(failure["resource"]) == 300
    assert len(failure["user_agent"]) == 200
    assert made.secret not in str(failure)
