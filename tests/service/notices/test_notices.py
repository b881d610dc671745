"""Notices: owners and custodians hear of what matters, each once, by mail and by signed event, whoever gets killed."""

from __future__ import annotations

import json
import os
import random
import re
import signal
import socket
import time
from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from threading import Thread
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from icalendar import Calendar
from joserfc import jwt
from joserfc.jwk import KeySet
from prometheus_client.parser import text_string_to_metric_families
from pydantic import SecretStr

from jamb.actions.credentials.recipients import EVENT
from jamb.actions.notices import notices
from jamb.client import BadInput, Conflict, Forbidden, HandoverLink, PrivateKey, unseal
from jamb.core.credentials.term import state_of
from jamb.core.notices import NoticeKind, digest, stage_of, wait_after
from jamb.service.config.settings import Settings
from jamb.service.runtime import open_runtime
from jamb.service.work.queue import carry_all, rotate_by_policy
from tests import patient
from tests.own_loop import in_own_loop
from tests.warm import Process, warm
from tests.world import Made, World, answers, unique, wait_until

NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)


@given(minutes=st.integers(-100_000, 100_000), notice=st.integers(1, 365))
def test_the_nearest_stage_counts_and_each_comes_once(minutes: int, notice: int) -> None:
    ends = NOW + timedelta(minutes=minutes)
    stage = stage_of(ends, NOW, notice)
    assert (stage is None) is (ends - NOW > timedelta(days=notice))
    if stage is not None:
        assert ends - NOW <= timedelta(days=stage)
        assert stage in {notice, 7, 1}
        later = stage_of(ends, NOW + timedelta(days=2), notice)
        assert later is not None
        assert later <= stage


def test_tries_are_farther_and_farther_apart_until_they_end() -> None:
    waits = [wait_after(tries) for tries in range(14)]
    assert waits[0] == timedelta(seconds=30)
    assert waits[12:] == [None, None]
    known = [one for one in waits if one is not None]
    assert known == sorted(known)
    assert known[-1] == timedelta(hours=6)


def test_a_letter_says_the_worst_first_and_does_not_grow_without_end() -> None:
    told = [(NoticeKind.ENDS_SOON, f"credential {place}", "/x") for place in range(500)]
    said = digest("Port", "Ada", "https://jamb.example", [*told, (NoticeKind.ROTATION_OVERDUE, "overdue one", "/y")])
    assert said.subject == "Port: 1 rotation overdue, 500 credentials expire soon"
    assert said.text.index("overdue one") < said.text.index("credential 0")
    assert "and 401 more" in said.text
    assert len(said.text.splitlines()) < 230


# With the service, its database, and the stand-in mailbox


@pytest.fixture
def steward(world: World) -> Iterator[Any]:
    """A directory in which mails do not wait for each other."""
    with world.jamb("steward") as jamb:
        before = jamb.directory().policy.digest_hours
        jamb.change_policy(digest_hours=0)
        yield jamb
        jamb.change_policy(digest_hours=before)


def environment(world: World, smtp: str | None = None) -> dict[str, str]:
    return {
        **os.environ,
        "JAMB_HOME": str(world.home),
        "JAMB_PORT": str(world.port),
        "JAMB_DATABASE_URL": world.cluster.url,
        "JAMB_SMTP_URL": smtp or f"smtp://127.0.0.1:{world.port + 3}",
        "JAMB_INNER_HOSTS": "127.0.0.1",
        "JAMB_LOG_LEVEL": "error",
    }


def start_notify(world: World, smtp: str | None = None) -> Process:
    return warm("jamb-service").start(["notify"], environment(world, smtp))


def notify(world: World, times: int = 1) -> None:
    """Let so many workers look and send at the same time, as `jamb-service notify` does."""
    settings = Settings(
        home=world.home,
        port=world.port,
        database_url=SecretStr(world.cluster.url),
        inner_hosts="127.0.0.1",
        smtp_url=SecretStr(f"smtp://127.0.0.1:{world.port + 3}"),
    )

    async def work() -> None:
        async with open_runtime(settings) as runtime:
            for slug in notices.directories_to_tell(runtime.backend):
                rotate_by_policy(runtime, slug)
                notices.tell(runtime.backend, slug, datetime.now(UTC), whole=True)
            await carry_all(runtime)

    in_own_loop(*(work() for _ in range(times)))


def mails(world: World, words: str) -> list[dict[str, Any]]:
    found = patient.get(f"http://127.0.0.1:{world.port + 1}/mailbox/mails").json()
    return [one for one in found if words in one["text"]]


def test_an_owner_hears_once_of_a_credential_that_ends_though_two_workers_look(world: World, steward: Any) -> None:
    made = world.client(days=5)
    notify(world, times=2)
    notify(world)
    (mail,) = mails(world, made.name)
    owner = world.person(None)
    assert mail["to"].endswith(f"<{owner['login']}>")
    assert re.search(
        rf"“{made.name}”: jamb_s1_\w{{4}}… ends in 4 days, on \d{{4}}-\d\d-\d\d \(never used\)", mail["text"]
    )
    assert f"{world.base_url}/clients/{made.id}#credentials" in mail["text"]
    assert made.secret not in mail["text"]
    # A later stage is told anew, and on the last day the custodians hear of it too.
    with world.database() as database:
        database.execute(
            "update credential set expires_at = now() + interval '20 hours' where client_id = %s", [made.id]
        )
    notify(world)
    again = [one for one in mails(world, made.name) if "ends today" in one["text"]]
    assert {one["to"].partition(" <")[0] for one in again} >= {owner["name"], "Maren Oduya"}
    told = [one for one in steward.notices.list() if one.client_id == made.id]
    assert all(one.sent_at is not None for one in told)


def test_who_is_told_of_what(world: World, steward: Any) -> None:
    tried = world.client(days=30)
    with world.jamb("custodian") as custodian:
        (old,) = custodian.secrets.list(tried.id)
        new = custodian.rotations.open(tried.id, old.id)
        link = custodian.handovers.make(tried.id).link
        custodian.rotations.abandon(tried.id, new.rotation.id)
        custodian.credentials.withdraw(tried.id, old.id)
    assert world.ask_token(tried).status_code == 401
    for _ in range(2):
        key = link.partition("#")[2]
        identity = link.partition("#")[0].rpartition("/")[2]
        patient.post(f"{world.base_url}/api/v1/handovers/{identity}/opening", json={"key": key})
    asking = world.client(asked=["berths.view"])
    with world.jamb("registrar") as registrar:
        request = registrar.requests.make(asking.id, "Tests a notice")
    notify(world)
    owner, said = world.person(None)["name"], {}
    for one in steward.notices.list():
        if one.client_id in {tried.id, asking.id}:
            said.setdefault(one.kind, set()).add(one.person)
    assert owner in said[NoticeKind.EXPIRED_TRIED]
    assert {owner, "Maren Oduya"} <= said[NoticeKind.LINK_TRIED]
    assert "Tobias Lindqvist" in said[NoticeKind.REQUEST_WAITS]
    assert owner not in said[NoticeKind.REQUEST_WAITS]
    with world.jamb("approver") as approver:
        approver.requests.decline(request.id, "Not now")
    notify(world)
    decided = {
        one.person
        for one in steward.notices.list()
        if one.kind == NoticeKind.REQUEST_DECIDED and one.client_id == asking.id
    }
    assert {owner, "Maren Oduya"} <= decided, "whoever asked, and the owner"


def test_who_is_given_a_finding_hears_of_it_and_whoever_gave_it_of_the_answer(world: World, steward: Any) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    (found,) = steward.findings.list(client=made.id, rule="single-owner")
    owner = world.person("oskar")["login"]
    steward.findings.assign(found.id, owner, note="Who stands in?")
    notify(world, times=2)
    with world.jamb("oskar") as oskar:
        oskar.findings.answer(made.id, found.id, "Pia does")
    notify(world, times=2)
    told = {
        (mail["to"].rpartition("<")[2].rstrip(">"), words)
        for mail in mails(world, made.name)
        for words in ("asks you to see to this: ", "The answer: Pia does")
        if words in mail["text"]
    }
    assert told == {
        (owner, "asks you to see to this: "),
        (world.person("steward")["login"], "The answer: Pia does"),
    }


def test_a_worker_that_is_killed_while_it_sends_loses_no_mail(world: World, steward: Any) -> None:
    made = world.client(days=6)
    with socket.create_server(("127.0.0.1", 0)) as stuck:
        worker = start_notify(world, f"smtp://127.0.0.1:{stuck.getsockname()[1]}")
        stuck.settimeout(30)
        connection, _ = stuck.accept()
        time.sleep(0.3)
        worker.send_signal(signal.SIGKILL)
        worker.wait()
        connection.close()
    notify(world)
    assert mails(world, made.name) == [], "what it had taken is nobody else's for two minutes"
    with world.database() as database:
        database.execute("update mail set next_at = now() where sent_at is null")
    notify(world, times=2)
    assert len(mails(world, made.name)) == 1


def test_a_mail_server_that_refuses_is_tried_again_and_what_it_said_is_shown(world: World, steward: Any) -> None:
    made = world.client(days=4)
    assert start_notify(world, "smtp://127.0.0.1:1").wait(60) == 0
    (told,) = [one for one in steward.notices.list() if one.client_id == made.id]
    assert (told.sent_at, "Connect" in told.error, told.failed) == (None, True, False)
    with world.database() as database:
        database.execute("update mail set next_at = now() where sent_at is null")
    notify(world)
    assert len(mails(world, made.name)) == 1


def test_whoever_was_made_inactive_gets_no_mail_that_waited(world: World, steward: Any) -> None:
    made, login = world.client(days=4), f"{unique('zoe').replace(' ', '.')}@quillhaven.example"
    person = steward.people.add(login, "Zoe Quist")
    steward.clients.change_owners(made.id, add=[login])
    assert start_notify(world, "smtp://127.0.0.1:1").wait(60) == 0
    steward.people.change(login, active=False)
    with world.database() as database:
        database.execute("update mail set next_at = now() where sent_at is null")
    notify(world)
    assert [mail["to"] for mail in mails(world, made.name) if login in mail["to"]] == []
    (told,) = [one for one in steward.notices.list() if one.client_id == made.id and one.person == person.name]
    assert (told.sent_at, told.failed, "inactive" in told.error) == (None, True, True)


def test_the_service_looks_and_sends_by_itself_and_two_processes_tell_once(world: World, steward: Any) -> None:
    made, smtp = world.client(days=2), f"smtp://127.0.0.1:{world.port + 3}"
    often = {"JAMB_SMTP_URL": smtp, "JAMB_NOTICES_CRON": "* * * * * */1"}
    with world.second_process(**often), world.second_process(world.port + 8, **often):
        wait_until(lambda: bool(mails(world, made.name)))
        time.sleep(2.5)
    assert len(mails(world, made.name)) == 1


def test_processes_that_are_killed_while_they_work_do_not_stop_the_next_one(world: World, steward: Any) -> None:
    made, dice, port = world.client(days=2), random.Random(3), world.port + 8
    often = {"JAMB_NOTICES_CRON": "* * * * * */1"}
    for _ in range(2):
        given = {**environment(world), **often, "JAMB_PORT": str(port), "JAMB_PUBLIC_URL": world.base_url}
        process = warm("jamb-service").start(["serve"], given)
        wait_until(lambda: answers(f"http://127.0.0.1:{port}/ready"))
        time.sleep(1 + dice.random())
        process.kill()
        process.wait()
    with world.database() as database:
        # What they had taken comes free by itself after two minutes.
        database.execute("update mail set next_at = now() where sent_at is null")
    later = world.client(days=2)
    with world.second_process(port, JAMB_SMTP_URL=f"smtp://127.0.0.1:{world.port + 3}", **often):
        wait_until(lambda: bool(mails(world, later.name)))
    assert len(mails(world, made.name)) == 1
    assert len(mails(world, later.name)) == 1


def test_the_queue_goes_on_after_the_database_was_away(world: World, steward: Any) -> None:
    often = {"JAMB_SMTP_URL": f"smtp://127.0.0.1:{world.port + 3}", "JAMB_NOTICES_CRON": "* * * * * */1"}
    with world.second_process(world.port + 8, **often):
        before = world.client(days=2)
        wait_until(lambda: bool(mails(world, before.name)))
        world.cluster.stop(mode="immediate")
        time.sleep(2)
        world.cluster.start()
        wait_until(lambda: answers(f"{world.base_url}/ready"))
        after = world.client(days=2)
        wait_until(lambda: bool(mails(world, after.name)))
    assert len(mails(world, before.name)) == len(mails(world, after.name)) == 1


def test_the_policy_opens_rotations_and_hands_the_secret_to_the_owners(world: World, steward: Any) -> None:
    made, fresh = (world.client(granted=["berths.view"], days=1) for _ in range(2))
    with world.database() as database:
        database.execute(
            "update credential set issued_at = issued_at - interval '9 days' where client_id = %s", [made.id]
        )
    steward.change_policy(rotation_opens_days=1)
    try:
        notify(world, times=2)
        notify(world)
    finally:
        steward.change_policy(rotation_opens_days=0)
    (rotation,) = list(steward.rotations.list(client=made.id))
    assert (rotation.opened_by, rotation.state) == ("The policy", "opened")
    assert list(steward.rotations.list(client=fresh.id)) == [], "what lives shortly is not rotated without end"
    (mail,) = [one for one in mails(world, made.name) if "New secrets for you" in one["text"]]
    link = re.search(rf"{made.name}.*\n\s+({world.base_url}/handover/\S+#\S+)", mail["text"])
    assert link is not None
    opened = HandoverLink(link[1]).open()
    assert opened.issued is not None
    assert world.ask_token(Made(made.id, made.name, opened.issued.secret)).status_code == 200
    assert world.ask_token(made).status_code == 200, "the old one stands until a person closes"
    with world.database() as database:
        kept = database.execute(
            "select count(*) from notice where link is not null and client_id = %s", [made.id]
        ).fetchone()
    assert kept == (0,), "once it was sent, nothing that opens it is kept"


# Calendars and metrics


def test_a_calendar_shows_the_ends_to_come_until_another_is_made(world: World) -> None:
    mine, other = world.client(days=40), world.client(days=41)
    with world.jamb("steward") as steward:
        steward.clients.change_owners(
            other.id, add=["pia.nowicki@quillhaven.example"], remove=[world.person(None)["login"]]
        )
        whole = steward.notices.make_calendar(whole=True).url
    with world.jamb(None) as owner:
        own = owner.notices.make_calendar().url
        with pytest.raises(Forbidden):
            owner.notices.make_calendar(whole=True)
        answer = patient.get(own)
        assert answer.headers["content-type"].startswith("text/calendar")
        found = {str(one["summary"]): one for one in Calendar.from_ical(answer.content).walk("VEVENT")}
        assert f"{mine.name}: credential expires" in found
        assert f"{other.name}: credential expires" not in found
        assert (
            found[f"{mine.name}: credential expires"]["dtstart"].dt == (datetime.now(UTC) + timedelta(days=40)).date()
        )
        assert f"{other.name}: credential expires" in patient.get(whole).text.replace("\r\n ", "")
        owner.notices.make_calendar()
    assert patient.get(own).status_code == 404, "the one before ended"
    assert patient.get(own.replace("quillhaven", "brisling")).status_code == 404
    with world.automation() as client, pytest.raises((BadInput, Forbidden)):
        client.notices.make_calendar()
    assert own.rpartition("/")[2].removesuffix(".ics") not in (world.home / "service.log").read_text()


def test_metrics_count_what_is_there_and_open_only_to_their_token(world: World) -> None:
    assert patient.get(f"{world.base_url}/metrics").status_code == 404
    made, ended = world.client(days=1), world.client()
    world.ask_token(Made(made.id, made.name, "wrong"))
    with world.jamb("custodian") as custodian:
        custodian.credentials.withdraw(ended.id, custodian.clients.read(ended.id).credentials[0].id)
    with world.second_process(JAMB_METRICS_TOKEN="look-out") as second:
        assert patient.get(f"{second}/metrics", headers={"Authorization": "Bearer other"}).status_code == 401
        text = patient.get(f"{second}/metrics", headers={"Authorization": "Bearer look-out"}).text
    found = {
        (sample.name, *sorted(sample.labels.values())): sample.value
        for family in text_string_to_metric_families(text)
        for sample in family.samples
    }
    expected = states_by_core(world)
    assert {key[1:]: value for key, value in found.items() if key[0] == "jamb_credentials"} == expected
    assert {"live", "expired", "withdrawn"} <= {part for key in expected for part in key}
    assert found["jamb_credentials_ending", "1", "quillhaven"] >= 1
    assert sum(value for key, value in found.items() if key[0] == "jamb_token_requests_total") >= 1
    assert {"mail", "webhook"} == {key[1] for key in found if key[0] == "jamb_queue_age_seconds"}
    assert found["jamb_request_seconds_count", "401", "GET"] >= 1
    assert found["jamb_database_connections", "requests"] >= found["jamb_database_connections_busy", "requests"] >= 1
    assert found["jamb_ledger_entries_total", "quillhaven"] >= 100


def states_by_core(world: World) -> dict[tuple[str, ...], float]:
    """Count credentials by the one rule for their state, row by row."""
    now, found = datetime.now(UTC), Counter[tuple[str, ...]]()
    with world.database() as database:
        rows = database.execute(
            "select slug, credential.kind, expires_at, withdrawn_at, starts_at, disabled_at from credential "
            "join directory on directory.id = directory_id"
        ).fetchall()
    for slug, kind, expires_at, withdrawn_at, starts_at, disabled_at in rows:
        state = state_of(expires_at, withdrawn_at, now, timedelta(0), starts_at=starts_at, disabled_at=disabled_at)
        found[tuple(sorted([slug, kind, state.value]))] += 1
    return {tuple(key): float(count) for key, count in found.items()}


# Webhooks


class Receiver:
    """A desk that takes events, or does not."""

    def __init__(self) -> None:
        self.took: list[tuple[str, bytes]] = []
        self.status = 202
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers["Content-Length"]))
                if outer.status == 202:
                    outer.took.append((self.headers["Content-Type"], body))
                self.send_response(outer.status)
                self.end_headers()

            def log_message(self, *_: Any) -> None: ...

        self.server = HTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self.server.server_port}/{unique('desk').replace(' ', '-')}"


@contextmanager
def receiver() -> Iterator[Receiver]:
    made = Receiver()
    Thread(target=made.server.serve_forever, daemon=True).start()
    yield made
    made.server.shutdown()
    made.server.server_close()


def test_events_are_signed_taken_once_and_what_is_given_up_can_be_revived(world: World, steward: Any) -> None:
    made: Made = world.client(days=3)
    with receiver() as desk:
        hook = steward.webhooks.add(desk.url)
        try:
            with pytest.raises(Conflict, match="already"):
                steward.webhooks.add(desk.url)
            desk.status = 500
            notify(world)
            seen = next(one for one in steward.webhooks.list() if one.id == hook.id)
            assert (seen.sent, seen.dead, "answered 500" in seen.error) == (0, 0, True)
            with world.database() as database:
                database.execute("update push set tries = 11, next_at = now() where webhook_id = %s", [hook.id])
            notify(world)
            dead = steward.webhooks.dead(hook.id)
            assert made.name in " ".join(one.words for one in dead)
            desk.status = 202
            assert steward.webhooks.revive(hook.id).waiting == len(dead)
            notify(world, times=2)
            claims = [_verified(world, *one) for one in desk.took]
            ids = [one["jti"] for one in claims]
            assert len(ids) == len(set(ids)) == len(dead)
            (event,) = [one for one in claims if one["sub_id"]["id"] == made.id]
            assert event["aud"] == desk.url
            assert event["events"]["urn:jamb:event:credential-ends-soon"]["client_name"] == made.name
        finally:
            steward.webhooks.remove(hook.id)
    assert hook.id not in {one.id for one in steward.webhooks.list()}
    for wrong in ("http://desk.port.example/x", "https://a:b@desk.example/", "ftp://x", "https://"):
        with pytest.raises(BadInput):
            steward.webhooks.add(wrong)


def test_a_credential_reaches_a_webhook_sealed_to_its_key(world: World, steward: Any) -> None:
    made, key = world.client(granted=["berths.view"], secret=False), PrivateKey.make()
    with receiver() as desk:
        hook = steward.webhooks.add(desk.url, key=json.dumps(key.public()))
        try:
            (recipient,) = steward.handovers.recipients(made.id)
            sealed = steward.handovers.seal(made.id, recipient.id)
            assert (recipient.id, sealed.recipient.key_id, sealed.sealed) == (hook.id, hook.key_id, "")
            notify(world)
            events = [_verified(world, *one)["events"] for one in desk.took]
            (event,) = [one[f"urn:jamb:event:{EVENT}"] for one in events if f"urn:jamb:event:{EVENT}" in one]
        finally:
            steward.webhooks.remove(hook.id)
    handed = unseal(event["sealed"], key)
    assert handed.issued is not None
    assert world.ask_token(Made(made.id, made.name, handed.issued.secret)).status_code == 200


def _verified(world: World, media_type: str, body: bytes) -> dict[str, Any]:
    """Verify as a receiver would, with an independent library and the keys of the directory's metadata."""
    assert media_type == "application/secevent+jwt"
    issuer = f"{world.base_url}/d/quillhaven"
    metadata = patient.get(f"{world.base_url}/.well-known/oauth-authorization-server/d/quillhaven").json()
    token = jwt.decode(
        body.decode(), KeySet.import_key_set(patient.get(metadata["jwks_uri"]).json()), algorithms=["ES256"]
    )
    assert token.header["typ"] == "secevent+jwt"
    assert token.claims["iss"] == issuer
    return dict(token.claims)
