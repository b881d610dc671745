"""What a read of the API costs before its own work: one connection, and few statements."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import AsyncIterator
from contextlib import ExitStack, asynccontextmanager
from pathlib import Path
from typing import Any

import httpx
import pytest
from pydantic import SecretStr
from sqlalchemy import Engine, event
from sqlalchemy.pool import Pool

from jamb.service.app import create_app
from jamb.service.config.settings import Settings
from tests.own_loop import in_own_loop
from tests.service.base.addresses import HERE, addressed
from tests.service.base.addresses import READS as ADDRESSES
from tests.world import World

# Who is signed in and what they hold; then what the page itself reads. Whoever needs to own something for it has what
# they own read, too.
BEFORE = 1
# A page of clients: as many for a hundred as for one, where none changed since the audit looked at it.
READS = {
    "": 0,
    "/publishers": 1,
    "/webhooks": 1,
    "/ledger": 1,
    "/people": 6,
    "/reviews": 3,
    "/clients?limit=100": 4,
}
# What each process of an API reads every second: its resource, and what was taken away; collections only where they
# changed. Where something was taken away of late, what those clients hold by consents and by roles, too.
GUARD = "/revocations?resource=berths"
GUARD_READS = 2
# Statements of each read of the API, as a steward reads it in the demo: those before it, too. Some take more where other
# tests left more: theirs is what the most of that takes.
BUDGETS: dict[str, int] = json.loads(Path(__file__).with_name("statements.json").read_text())


@pytest.fixture
def counted() -> Any:
    """Count statements and connections of this process's engines."""
    found: Counter[str] = Counter()

    def statement(*_: Any) -> None:
        found["statements"] += 1

    def connection(*_: Any) -> None:
        found["connections"] += 1

    event.listen(Engine, "before_cursor_execute", statement)
    event.listen(Pool, "checkout", connection)
    yield found
    event.remove(Engine, "before_cursor_execute", statement)
    event.remove(Pool, "checkout", connection)


@asynccontextmanager
async def in_this_process(world: World) -> AsyncIterator[httpx.AsyncClient]:
    """Yield a client of a service of this process, signed in as the steward."""
    settings = Settings(
        home=world.home, port=world.port, database_url=SecretStr(world.cluster.url), notices_cron="0 0 1 1 *"
    )
    app, person = create_app(settings), world.person("steward")
    async with app.router.lifespan_context(app):
        transport = httpx.ASGITransport(app=app)
        async with httpx.AsyncClient(transport=transport, base_url=world.base_url, timeout=60) as http:
            body = {"login": person["login"], "password": person["password"]}
            signed_in = await http.post("/api/v1/session", json=body)
            http.headers["X-Jamb-CSRF"] = signed_in.raise_for_status().json()["csrf"]
            yield http


async def cost(
    http: httpx.AsyncClient, counted: Counter[str], address: str, evaluated: bool = False, **sent: Any
) -> tuple[int, int]:
    """Return the connections and statements of a read. `evaluated`: after a look at what changed, each time."""
    tries = []
    # Background work of this process may come between: the least of some is what the read costs.
    for _ in range(4):
        if evaluated:
            (await http.post(f"{HERE}/audit/evaluation", json={})).raise_for_status()
        counted.clear()
        (await http.get(address, **sent)).raise_for_status()
        tries.append((counted["connections"], counted["statements"]))
    return min(tries)


def test_a_read_takes_one_connection_and_four_statements_before_its_work(world: World, counted: Counter[str]) -> None:
    async def read_all() -> dict[str, tuple[int, int]]:
        async with in_this_process(world) as http:
            guard = json.loads((world.home / "guards.json").read_text())["berths"]
            form = {
                "grant_type": "client_credentials",
                "client_id": guard["client_id"],
                "client_secret": guard["client_secret"],
                "resource": guard["api"],
            }
            fetched = await http.post("/d/quillhaven/token", data=form)
            bearer = {"Authorization": f"Bearer {fetched.raise_for_status().json()['access_token']}"}
            costs = {path: await cost(http, counted, HERE + path, evaluated=True) for path in READS}
            return costs | {GUARD: await cost(http, counted, HERE + GUARD, evaluated=True, headers=bearer)}

    wanted = {path: (1, BEFORE + own) for path, own in READS.items()}
    found = in_own_loop(read_all())
    assert found.pop(GUARD) in {(1, BEFORE + GUARD_READS), (1, BEFORE + GUARD_READS + 2)}
    assert found == wanted


def test_no_read_takes_more_statements_than_its_budget(world: World, counted: Counter[str]) -> None:
    """A read that needs more says so here, and why is seen in its change; one that is new names its own."""
    made = world.client(asked=["arrivals.view"], granted=["berths.view"])

    async def read_all(wanted: dict[str, tuple[str, dict[str, str]]]) -> dict[str, int]:
        async with in_this_process(world) as http:
            (await http.post(f"{HERE}/audit/evaluation", json={})).raise_for_status()
            return {
                path: (await cost(http, counted, address, params=params))[1]
                for path, (address, params) in wanted.items()
            }

    with world.session("steward") as steward, ExitStack() as there:
        wanted = {path: there.enter_context(addressed(steward, made.id, path)) for path in ADDRESSES}
        found = in_own_loop(read_all(wanted))
    assert set(found) == set(BUDGETS)
    over = {path: f"{number} of {BUDGETS[path]}" for path, number in found.items() if number > BUDGETS[path]}
    assert over == {}


def test_what_is_long_goes_compressed_to_whoever_takes_it_so(world: World) -> None:
    with world.session("steward") as http:
        plain = http.get(f"{HERE}/resources/jamb", headers={"Accept-Encoding": "identity"})
        for takes in ("gzip", "br;q=1.0, gzip;q=0.5", "*"):
            packed = http.get(f"{HERE}/resources/jamb", headers={"Accept-Encoding": takes})
            assert (packed.headers["Content-Encoding"], packed.headers["Vary"]) == ("gzip", "Accept-Encoding")
            assert int(packed.headers["Content-Length"]) < len(plain.content) / 3
            assert packed.json() == plain.json()
        for takes in ("br", "gzip;q=0", "identity"):
            assert (
                "Content-Encoding" not in http.get(f"{HERE}/resources/jamb", headers={"Accept-Encoding": takes}).headers
            )
        assert "Content-Encoding" not in http.get(f"{HERE}/publishers").headers


def test_what_its_caller_has_is_not_sent_again(world: World) -> None:
    made = world.client(asked=["berths.view"], secret=False)
    with world.session("steward") as http, world.jamb("steward") as steward:
        asks, whole = f"{HERE}/clients?q={made.name}", f"{HERE}/clients/{made.id}"
        first = http.get(asks)
        tag = first.headers["ETag"]
        for named in (tag, tag.removeprefix("W/"), f'"other", {tag}', "*"):
            again = http.get(asks, headers={"If-None-Match": named})
            assert (again.status_code, again.content, again.headers["ETag"]) == (304, b"", tag)
            assert {again.headers[name] for name in ("Cache-Control", "Vary")} == {"no-store", "Accept-Encoding"}
            assert "Content-Type" not in again.headers
        # What can be edited has its version as its tag, and the same one beside other credentials.
        before = http.get(whole)
        steward.secrets.issue(made.id)
        after = http.get(whole, headers={"If-None-Match": before.headers["ETag"]})
        assert (after.status_code, after.headers["ETag"]) == (200, before.headers["ETag"])
        assert len(after.json()["credentials"]) == len(before.json()["credentials"]) + 1
        changed = http.get(asks, headers={"If-None-Match": tag})
        assert changed.status_code == 200
        assert changed.headers["ETag"] != tag
        refused = http.get(f"{HERE}/clients?limit=0", headers={"If-None-Match": "*"})
        assert refused.status_code == 422
