"""What is taken away is taken from tokens, too, that were made while its change went on and could not be seen yet."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from contextvars import copy_context
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import httpx
import pytest

from jamb.core.directory.roles import HolderKind
from jamb.core.reach import ReachKind
from jamb.store.connections import deadline
from jamb.store.connections.engine import make_engine
from jamb.store.resources.taking_effect import Opened, Taking, count_from
from jamb.wire.resources.reach import ReachSent
from tests.service import meeting
from tests.service.entry.roster import BACK, answered, by_hand, made, members, redeemed, refreshed, somebody
from tests.service.entry.test_exchanges import Relay, published
from tests.service.meeting import LEDGER
from tests.world import Made, World, unique, wait_until


@contextmanager
def held_up(world: World, act: Callable[[], Any], lock: str = LEDGER) -> Iterator[None]:
    """Do the block in a later second than that in which the act began, and before it is committed."""
    with meeting.held_up(world, act, lock):
        time.sleep(1.1)
        yield


def withdrawn(world: World, client: Made) -> None:
    with world.jamb("approver") as approver:
        approver.consent.withdraw(client.id, "berths", ["berths.view"])


def narrowed(world: World, client: Made) -> None:
    with world.jamb("approver") as approver:
        only = ReachSent(kind=ReachKind.ONLY, collections=["south"])
        approver.consent.change_reach(client.id, "berths", ["berths.view"], only)


def revoked(world: World, client: Made) -> None:
    with world.jamb("approver") as approver:
        approver.clients.revoke_tokens(client.id)


def lost_a_role(world: World, client: Made) -> None:
    with world.jamb() as steward:
        steward.roles.withdraw("lookout", HolderKind.CLIENT, [client.id])


@pytest.mark.parametrize(
    ("act", "left"),
    [(withdrawn, 403), (narrowed, 403), (revoked, 200), (lost_a_role, 403)],
    ids=lambda one: getattr(one, "__name__", str(one)),
)
def test_a_client_that_asks_meanwhile_gets_no_more(world: World, act: Callable[[World, Made], None], left: int) -> None:
    client = world.client(granted=[] if act is lost_a_role else ["berths.view"])
    if act is lost_a_role:
        with world.jamb() as steward:
            steward.roles.assign("lookout", HolderKind.CLIENT, [client.id])

    def opens(token: str) -> int:
        return world.call_berths(token, "/berths/north-11").status_code

    with held_up(world, lambda: act(world, client)):
        token = world.ask_token(client).raise_for_status().json()["access_token"]
        assert opens(token) == 200
    wait_until(lambda: opens(token) in (401, 403))
    answer = world.ask_token(client)
    if answer.is_success:
        fresh = answer.json()["access_token"]
        wait_until(lambda: opens(fresh) == left)
        time.sleep(2)
        assert opens(fresh) == left
    else:
        assert left == 403


def test_a_person_who_comes_back_meanwhile_gets_no_more(world: World) -> None:
    roster = made(world, "web", [BACK], ["berths.assign"])
    with somebody(world, "lotte") as http, world.jamb() as steward:
        person = world.person("lotte")["login"]
        world.agreed(lambda: steward.roles.assign("lookout", HolderKind.PERSON, [person]))
        address, verifier = by_hand(roster, scope="openid offline_access berths.view")
        held = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
        with held_up(world, lambda: steward.roles.withdraw("lookout", HolderKind.PERSON, [person])):
            token = refreshed(roster, held["refresh_token"]).raise_for_status().json()["access_token"]
            assert world.call_berths(token).status_code == 200
        wait_until(lambda: world.call_berths(token).status_code == 401)


def ended(http: httpx.Client, relay: Relay) -> None:
    for one in http.get("/api/v1/session/authorizations").raise_for_status().json():
        if one["client_id"] == relay.roster.id:
            http.delete(f"/api/v1/session/authorizations/{one['id']}").raise_for_status()


def signed_out(http: httpx.Client, _: Relay) -> None:
    http.delete("/api/v1/session").raise_for_status()


@pytest.mark.parametrize(
    ("end", "lock"),
    [(ended, LEDGER), (signed_out, "select from console_session order by created_at desc limit 1 for update")],
    ids=["ended", "signed out"],
)
def test_a_token_that_is_exchanged_meanwhile_ends_with_what_it_was_made_of(
    world: World, end: Callable[[httpx.Client, Relay], None], lock: str
) -> None:
    relay = published(world)
    with somebody(world) as http, ThreadPoolExecutor(1) as pool:
        address, verifier = by_hand(relay.roster, scope="openid relay.use", resource=relay.identifier)
        code = members(answered(http, address))["code"]
        sent = redeemed(relay.roster, code, verifier).raise_for_status().json()["access_token"]
        with held_up(world, lambda: end(http, relay), lock):
            # It may have to wait for the end, having seen that it counts.
            exchanging = pool.submit(relay.exchange, sent)
            time.sleep(0.5)
        token = exchanging.result().raise_for_status().json()["access_token"]
        wait_until(lambda: world.call_berths(token).status_code == 401)


def test_what_a_late_change_took_from_people_counts_from_its_end_and_nothing_of_before(world: World) -> None:
    """Also where the time of its request is over by then."""
    noted = datetime(2026, 12, 2, 10, 30, tzinfo=UTC)
    before, opened, seen = (noted + timedelta(seconds=seconds) for seconds in (3, 5, 9))
    keep = "insert into person_narrowed (person_id, at) values (%s, %s)"
    with world.jamb() as steward:
        others, own = (steward.people.add(f"{uuid4().hex}@quillhaven.example", unique("Person")).id for _ in range(2))
    with world.database() as database:
        directory = database.execute("select id from directory where slug = 'quillhaven'").fetchone()
        assert directory is not None
        database.execute(keep, [others, before])
        database.execute(keep, [own, opened])

        def late() -> None:
            deadline.begin(-1)
            engine = make_engine(world.cluster.url)
            count_from(engine, Taking(noted, opened=Opened(directory[0], opened)), seen)
            engine.dispose()

        copy_context().run(late)
        at = "select at from person_narrowed where person_id = %s"
        assert database.execute(at, [others]).fetchone() == (before,)
        assert database.execute(at, [own]).fetchone() == (seen,)


def test_where_the_database_is_away_the_change_stands_and_the_log_says_what_does_not_count(
    caplog: pytest.LogCaptureFixture,
) -> None:
    nowhere = make_engine("postgresql://nobody@127.0.0.1:1/nothing")
    began = datetime(2026, 12, 2, 10, 30, 0, 900_000, UTC)
    count_from(nowhere, Taking(began), began + timedelta(milliseconds=50))
    assert not caplog.records, "it is the same second"
    count_from(nowhere, Taking(began), began + timedelta(milliseconds=150))
    (said,) = caplog.records
    assert "10:30:00.9" in said.getMessage()
    assert "OperationalError" in said.getMessage()
