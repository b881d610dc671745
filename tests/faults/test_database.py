"""A database that hangs, goes away, or answers nobody: every request ends soon, says what is true, and goes on after."""

from __future__ import annotations

import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from urllib.parse import urlsplit
from uuid import uuid4

import httpx
import pytest

from tests.wire import Wire
from tests.world import Made, World, unique, wait_until

# With a reserve for a busy machine: what is tried waits for ever, or for a minute, where nothing bounds it.
SOON_SECONDS = 12.0
BACK_SECONDS = 8.0
CLIENTS = "/api/v1/directories/quillhaven/clients"


@contextmanager
def wired(world: World) -> Iterator[tuple[Wire, str]]:
    """Yield a wire to the database, and the address of a service that has no other way to it."""
    parts = urlsplit(world.cluster.url)
    assert parts.hostname is not None
    assert parts.port is not None
    with Wire(parts.hostname, parts.port) as wire:
        url = world.cluster.url.replace(f":{parts.port}/", f":{wire.port}/")
        with world.second_process(JAMB_DATABASE_URL=url, JAMB_STATEMENT_SECONDS="3") as base:
            yield wire, base


def calls(world: World, base: str, made: Made) -> dict[str, httpx.Request]:
    bearer = {"Authorization": f"Bearer {world.token('steward')}"}
    form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": made.secret}
    return {
        "token": httpx.Request("POST", f"{base}/d/quillhaven/token", data=form),
        "list": httpx.Request("GET", f"{base}{CLIENTS}", headers=bearer),
        "register": httpx.Request(
            "POST", f"{base}{CLIENTS}", headers=bearer, json={"name": unique("Held"), "purpose": "Tries a wire"}
        ),
        "ready": httpx.Request("GET", f"{base}/ready"),
    }


def timed(request: httpx.Request) -> tuple[httpx.Response, float]:
    with httpx.Client(timeout=60) as http:
        started = time.monotonic()
        return http.send(request), time.monotonic() - started


def all_of(requests: dict[str, httpx.Request]) -> dict[str, tuple[httpx.Response, float]]:
    with ThreadPoolExecutor(len(requests)) as pool:
        return dict(zip(requests, pool.map(timed, requests.values()), strict=True))


@pytest.mark.parametrize("how", ["hangs", "away"])
def test_a_database_that_hangs_or_is_away_holds_up_nobody(world: World, how: str) -> None:
    made = world.client(granted=["berths.view"])
    with wired(world) as (wire, base):
        # A busy machine may be late with one of them.
        wait_until(lambda: {one.status_code for one, _ in all_of(calls(world, base, made)).values()} <= {200, 201})
        trouble = wire.held if how == "hangs" else wire.away
        trouble.set()
        for _ in range(2):
            for name, (answer, seconds) in all_of(calls(world, base, made)).items():
                assert (name, answer.status_code) == (name, 503)
                assert seconds < (3.0 if name == "ready" else SOON_SECONDS), name
                if name != "ready":
                    assert 1 <= int(answer.headers["Retry-After"]) <= 10
                if name in {"list", "register"}:
                    assert answer.json()["instance"] == f"urn:uuid:{answer.headers['X-Request-Id']}"
        assert httpx.get(f"{base}/health", timeout=5).status_code == 200
        if how == "away":
            # As long as it takes for waits that grow to have grown.
            time.sleep(12)
        trouble.clear()
        returned = time.monotonic()
        for name in ("token", "list", "register"):
            wait_until(lambda name=name: timed(calls(world, base, made)[name])[0].status_code in {200, 201})
        assert time.monotonic() - returned < BACK_SECONDS


def test_of_a_lost_answer_to_a_commit_nothing_is_made_up(world: World) -> None:
    bearer = {"Authorization": f"Bearer {world.token('steward')}"}
    with wired(world) as (wire, base), httpx.Client(base_url=base, headers=bearer, timeout=60) as http:
        assert http.get(CLIENTS).status_code == 200
        for key in (None, str(uuid4())):
            body = {"name": unique("Unheard"), "purpose": "Tries a wire"}
            named = {"Idempotency-Key": key} if key else {}
            wire.cut_at_commit = 1
            answer = http.post(CLIENTS, json=body, headers=named)
            assert (answer.status_code, answer.json()["type"]) == (503, "urn:jamb:problem:outcome-unknown")
            assert "not known" in answer.json()["detail"]
            assert "Nothing was changed" not in answer.text
            assert ("Idempotency-Key" in answer.json()["next_step"]) is (key is not None)
            there = http.get(CLIENTS, params={"q": body["name"]}).json()["items"]
            assert [one["name"] for one in there] == [body["name"]]
            if key:
                repeated = http.post(CLIENTS, json=body, headers=named)
                assert (repeated.status_code, repeated.json()["made"]["id"]) == (409, there[0]["id"])
        assert wire.cuts == 2
