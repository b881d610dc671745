"""The audit with its memory: what changed is seen at once, what is waived comes back, and shortcuts change nothing."""

from __future__ import annotations

import itertools
import json
import random
import time
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from sqlmodel import Session

from jamb.actions.audit.evaluation import look_at_all, sweep
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.client import BadInput, Conflict, Forbidden, Jamb, NotFound
from jamb.core.audit.due_times import next_change
from jamb.core.audit.evaluate import evaluate
from jamb.core.audit.findings import RemedyKind, Severity
from jamb.core.audit.reports import ReportForm, fingerprints_in
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import findings
from jamb.store.connections.engine import make_engine
from jamb.wire.audit.audit import KeptFinding
from tests.cli.run import Shell
from tests.world import Made, World, unique

SLUG = "quillhaven"


@pytest.fixture
def steward(world: World) -> Iterator[Jamb]:
    with world.jamb("steward") as jamb:
        yield jamb


@pytest.fixture
def backend(world: World) -> Iterator[Backend]:
    engine = make_engine(world.cluster.url)
    # To look and to keep what is found takes no key.
    sealer: Any = None
    yield Backend(engine, sealer, world.base_url)
    engine.dispose()


def of(jamb: Jamb, made: Made, *which: str) -> dict[str, KeptFinding]:
    return {one.rule: one for name in which or ("open",) for one in jamb.findings.list(which=name, client=made.id)}


def test_what_changed_is_seen_at_once_goes_and_comes_back(world: World, steward: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    assert set(of(steward, made)) == {"single-owner"}
    with world.database() as database:
        database.execute("update credential set expires_at = now() + interval '5 days' where client_id = %s", [made.id])
    first = of(steward, made)["credential-expiring"]
    assert (first.act, first.returned, first.resolved_at) == (RemedyKind.ROTATE, 0, None)
    (held,) = steward.secrets.list(made.id)
    steward.credentials.disable(made.id, held.id)
    assert "credential-expiring" not in of(steward, made)
    assert of(steward, made, "resolved")["credential-expiring"].resolved_at is not None
    steward.credentials.enable(made.id, held.id)
    again = of(steward, made)["credential-expiring"]
    assert (again.id, again.first_seen_at, again.returned) == (first.id, first.first_seen_at, 1)


def test_a_finding_is_waived_with_a_reason_and_comes_back(world: World, steward: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    found = of(steward, made)["single-owner"]
    for days, reason in ((0, "x"), (367, "x"), (10, "  ")):
        with pytest.raises(BadInput):
            steward.findings.waive(found.id, days=days, reason=reason)
    with pytest.raises(Conflict, match="not waived"):
        steward.findings.end_waiver(found.id)
    waived = steward.findings.waive(found.id, days=10, reason="A second one begins in December")
    assert (waived.waived_by, waived.waived_reason) == ("Hanneke Brouwer", "A second one begins in December")
    with world.jamb("auditor") as auditor:
        assert of(auditor, made, "waived")["single-owner"].waived_until is not None, "it is not hidden"
        assert of(auditor, made) == {}
        assert auditor.clients.read(made.id).findings == [], "and not counted"
        with pytest.raises(Forbidden):
            auditor.findings.end_waiver(found.id)
        entry = next(iter(auditor.ledger.list()))
    assert (entry.action, entry.reason) == ("finding.waived", "A second one begins in December")
    with world.database() as database:
        database.execute("update finding set waived_until = now() where id = %s", [found.id])
    assert of(steward, made)["single-owner"].waived_until is None, "when its days are over it counts"
    given = steward.findings.assign(found.id, "maren.oduya@quillhaven.example", note="Please ask around")
    assert (given.assigned_to, given.note) == ("Maren Oduya", "Please ask around")
    with pytest.raises(BadInput):
        steward.findings.assign(found.id, "nobody@quillhaven.example")
    with pytest.raises(NotFound):
        steward.findings.waive(made_up(), days=1, reason="x")


def test_an_owner_answers_for_what_was_given_to_them_and_whoever_gave_it_reads_it(world: World, steward: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    found = of(steward, made)["single-owner"]
    login = world.person("oskar")["login"]
    with world.jamb("oskar") as owner:
        with pytest.raises(Forbidden, match="not given to you"):
            owner.findings.answer(made.id, found.id, "Mine")
        steward.findings.assign(found.id, login, note="Who stands in for you?")
        (given,) = [one for one in owner.findings.mine() if one.id == found.id]
        assert (given.note, given.assigned_by, given.answer) == ("Who stands in for you?", "Hanneke Brouwer", "")
        for words in (" ", "x" * 501):
            with pytest.raises(BadInput):
                owner.findings.answer(made.id, found.id, words)
        answered = owner.findings.answer(made.id, found.id, "Pia will, from Monday")
        assert (answered.answer, answered.note, answered.assigned_to) == (
            "Pia will, from Monday",
            given.note,
            "Oskar Pell",
        )
        with pytest.raises(Forbidden):
            owner.findings.assign(found.id, "")
    with world.jamb("pia") as pia:
        assert found.id not in {one.id for one in pia.findings.mine()}
        with pytest.raises(Forbidden):
            pia.findings.answer(made.id, found.id, "I shall not")
    assert of(steward, made)["single-owner"].answer == "Pia will, from Monday"
    entry = next(iter(steward.ledger.list(client=made.id)))
    assert (entry.action, entry.after) == (
        "finding.answered",
        {"finding": found.title, "answer": "Pia will, from Monday"},
    )
    assert '"answer": "Pia will, from Monday"' in steward.findings.report(ReportForm.JSONL)
    # A word more leaves the answer, another person begins without one.
    assert steward.findings.assign(found.id, login, note="Good").answer == "Pia will, from Monday"
    assert steward.findings.assign(found.id, world.person("pia")["login"]).answer == ""
    steward.clients.change_owners(made.id, add=[world.person("pia")["login"]])
    with world.jamb("pia") as pia, pytest.raises(Conflict, match="resolved"):
        of(steward, made)
        pia.findings.answer(made.id, found.id, "Here I am")


def made_up() -> Any:
    return "00000000-0000-0000-0000-000000000000"


def from_scratch(backend: Backend, now: datetime) -> set[tuple[Any, ...]]:
    """Evaluate every client anew, and keep nothing."""
    with Session(backend.engine) as session:
        directory = find_directory(session, SLUG)
        loaded = pictures.load(session, directory.id, directory.policy, now)
        found = evaluate((one.picture for one in loaded), directory.policy, now)
        return {(one.rule, one.client_id, one.subject, one.severity.word, one.title, one.remedy) for one in found}


def kept(jamb: Jamb) -> set[tuple[Any, ...]]:
    rows = [one for which in ("open", "waived") for one in jamb.findings.list(which=which)]
    return {(one.rule, one.client_id, one.subject, one.severity.value, one.title, one.remedy) for one in rows}


def test_after_any_history_looking_at_what_changed_equals_looking_at_all(
    world: World, steward: Jamb, backend: Backend
) -> None:
    dice = random.Random(23)
    owner = world.person(None)["login"]
    made = [world.client(granted=["berths.view"], days=dice.choice((5, 20, 90))) for _ in range(4)]

    def ask(one: Made) -> None:
        wanted = dice.choice(["berths.assign", "berths.manage", "arrivals.view"])
        if wanted not in {rung.permission for place in steward.clients.read(one.id).resources for rung in place.rungs}:
            steward.asks.add(one.id, "berths", [wanted])

    changes: list[Any] = [
        ask,
        lambda one: steward.secrets.issue(one.id, days=dice.choice((3, 60))),
        world.ask_token,
        lambda one: steward.clients.change_owners(one.id, remove=[owner]),
        lambda one: steward.clients.change_owners(one.id, add=[owner]),
        lambda one: steward.credentials.withdraw(one.id, steward.secrets.list(one.id)[0].id),
        lambda one: steward.consent.withdraw(one.id, "berths", ["berths.view"]),
        lambda one: aged(world, one, dice.choice((40, 100, 200))),
    ]
    for _ in range(25):
        one, change = dice.choice(made), dice.choice(changes)
        try:
            change(one)
        except (BadInput, Conflict, NotFound):
            continue
    deadline = time.monotonic() + 10
    while kept(steward) != from_scratch(backend, datetime.now(UTC)) and time.monotonic() < deadline:
        time.sleep(0.2)  # a use is written a moment after it was answered
    assert kept(steward) == from_scratch(backend, datetime.now(UTC))
    # The clock alone moves: each of the coming weeks, only what came due is looked at.
    looked_at = []
    for week in range(1, 8):
        later = datetime.now(UTC) + timedelta(weeks=week)
        looked_at.append(sweep(backend, SLUG, later).looked_at)
        with world.database() as database:
            rows = database.execute(
                "select rule, client_id, subject, severity, title, remedy from finding"
                " join directory d on d.id = directory_id where d.slug = %s and resolved_at is null",
                [SLUG],
            ).fetchall()
        assert {(*row[:3], Severity(row[3]).word, *row[4:]) for row in rows} == from_scratch(backend, later)
    # Back to now, for whoever comes next.
    look_at_all(backend, SLUG)
    total = sweep(backend, SLUG, datetime.now(UTC)).looked_at
    # Of the clients that tests before this one left, too, many come due in these weeks; to look at all is to look at each
    # of them each time.
    assert sum(looked_at) < 0.8 * len(looked_at) * total
    assert kept(steward) == from_scratch(backend, datetime.now(UTC))


def aged(world: World, one: Made, days: int) -> None:
    """Let everything of the client have been done so long ago."""
    past = timedelta(days=days)
    with world.database() as database:
        database.execute("update client set registered_at = registered_at - %s where id = %s", [past, one.id])
        for table, column in (("consent", "granted_at"), ("ask", "asked_at"), ("credential", "issued_at")):
            database.execute(f"update {table} set {column} = {column} - %s where client_id = %s", [past, one.id])
        database.execute("update credential set last_used_at = last_used_at - %s where client_id = %s", [past, one.id])
        # The moment of registration never changes but here.
        database.execute("insert into audit_stale (client_id) values (%s)", [one.id])


def rules_of(backend: Backend, made: Made, now: datetime) -> set[str]:
    """Return what is kept of a client, without looking at it again; waived or not."""
    with Session(backend.engine) as session:
        found = findings.findings_of(session, find_directory(session, SLUG).id, client_ids=[made.id])
        return {row.rule for row, _ in found}


def test_what_is_done_while_a_round_runs_is_judged(world: World, backend: Backend) -> None:
    made, began = world.client(), datetime.now(UTC)
    with world.database() as database:
        database.execute(
            "insert into consent (id, client_id, resource_id, permission, kind, granted_at, granted_by, by_person)"
            " select gen_random_uuid(), %s, resource.id, 'consent.decide', 'application', now(), 'x', false"
            " from resource join directory d on d.id = directory_id where resource.name = 'jamb' and d.slug = %s",
            [made.id, SLUG],
        )
    sweep(backend, SLUG, began)
    assert "controls-registrations" in rules_of(backend, made, began)


# What is found of it before and after it begins.
BEGINS_LATER = {
    "a consent": ("controls-registrations", False, True),
    "a role": ("controls-registrations", False, True),
    "a withdrawal": ("disabled-with-credentials", True, False),
    "the role of an owner": ("owner-weaker-than-client", True, False),
    "another's consent": ("controls-through-others", False, True),
}


@pytest.mark.parametrize("what", BEGINS_LATER)
def test_what_begins_later_is_looked_at_when_it_begins(
    world: World, backend: Backend, steward: Jamb, what: str
) -> None:
    rule, before, after = BEGINS_LATER[what]
    made, later = world.client(), datetime.now(UTC) + timedelta(hours=30)
    consent = (
        "insert into consent (id, client_id, resource_id, permission, kind, granted_at, granted_by, by_person, reach)"
        " select gen_random_uuid(), %s, resource.id, %s, 'application', %s, 'x', false, %s"
        " from resource join directory d on d.id = directory_id where resource.name = 'jamb' and d.slug = %s"
    )
    role = (
        "insert into role_assignment (id, role_id, client_id, person_id, assigned_at, assigned_by)"
        " select gen_random_uuid(), role.id, %s, %s, %s, 'x' from role join directory d on d.id = directory_id"
        " where role.name = 'steward' and d.slug = %s"
    )
    with world.database() as database:
        if what == "a consent":
            database.execute(consent, [made.id, "consent.decide", later, None, SLUG])
        elif what == "a role":
            database.execute(role, [made.id, None, later, SLUG])
        elif what == "a withdrawal":
            steward.clients.disable(made.id, reason="For a while")
            database.execute("update credential set withdrawn_at = %s where client_id = %s", [later, made.id])
        elif what == "the role of an owner":
            database.execute(consent, [made.id, "consent.decide", datetime.now(UTC), None, SLUG])
            (owner,) = database.execute("select person_id from client_owner where client_id = %s", [made.id]).fetchall()
            database.execute(role, [None, owner[0], later, SLUG])
        else:
            other = world.client()
            reach = json.dumps({"only": [other.id]})
            database.execute(consent, [made.id, "credentials.manage", datetime.now(UTC), reach, SLUG])
            database.execute(consent, [other.id, "consent.decide", later, None, SLUG])
    try:
        sweep(backend, SLUG, datetime.now(UTC))
        found = [rule in rules_of(backend, made, datetime.now(UTC))]
        sweep(backend, SLUG, later)
        found.append(rule in rules_of(backend, made, later))
        assert found == [before, after]
    finally:
        with world.database() as database:
            database.execute("delete from role_assignment where assigned_by = 'x'")
            database.execute("delete from consent where granted_by = 'x'")
        look_at_all(backend, SLUG)
        sweep(backend, SLUG, datetime.now(UTC))


def test_a_client_is_judged_alike_in_whatever_company(world: World, backend: Backend) -> None:
    there, gone = world.client(granted=["berths.view"]), "c" * 22
    reaching = [world.client() for _ in range(4)]
    reaches: list[tuple[str, str, dict[str, list[str]] | None]] = [
        ("delegated", "registry.read", {"only": [there.id, gone]}),
        ("application", "registry.read", {"all_but": [there.id]}),
        ("application", "credentials.manage", None),
        ("application", "credentials.manage", {"only": [reaching[0].id, reaching[2].id]}),
    ]
    with world.database() as database:
        for made, (kind, permission, reach) in zip(reaching, reaches, strict=True):
            database.execute(
                "insert into consent (id, client_id, resource_id, permission, kind, granted_at, granted_by, by_person, reach)"
                " select gen_random_uuid(), %s, resource.id, %s, %s, now(), 'x', false, %s"
                " from resource join directory d on d.id = directory_id where resource.name = 'jamb' and d.slug = %s",
                [made.id, permission, kind, json.dumps(reach) if reach else None, SLUG],
            )
    now = datetime.now(UTC) + timedelta(seconds=1)
    try:
        with Session(backend.engine) as session:
            directory = find_directory(session, SLUG)

            def judged(*ids: str) -> dict[str, tuple[Any, ...]]:
                loaded = pictures.load(session, directory.id, directory.policy, now, ids or None)
                return {
                    one.row.id: (
                        list(evaluate([one.picture], directory.policy, now)),
                        next_change(one.picture, directory.policy, now),
                    )
                    for one in loaded
                }

            together = judged()
            left = {one.rule: one for one in together[reaching[0].id][0]}["left-behind"]
            assert left.evidence["clients gone"] == gone, "what is there is not named"
            chosen = [*(one.id for one in reaching), *random.Random(5).sample(sorted(together), 20)]
            assert {key: judged(key)[key] for key in chosen} == {key: together[key] for key in chosen}
            for one, other in itertools.pairwise(chosen):
                assert judged(one, other) == {key: together[key] for key in (one, other)}
    finally:
        with world.database() as database:
            database.execute("delete from consent where granted_by = 'x'")


def test_two_who_look_at_the_same_time_share_the_work(world: World, steward: Jamb, backend: Backend) -> None:
    for _ in range(3):
        look_at_all(backend, SLUG)
        with ThreadPoolExecutor(4) as pool:
            swept = list(pool.map(lambda _: sweep(backend, SLUG, datetime.now(UTC)), range(4)))
        assert sum(one.looked_at for one in swept) > 0
        assert sweep(backend, SLUG, datetime.now(UTC)).looked_at == 0
    assert kept(steward) == from_scratch(backend, datetime.now(UTC))


def test_a_pipeline_fails_on_what_is_new_alone(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("auditor")
    for form in ("sarif", "jsonl"):
        written = shell("audit", "-o", form)
        assert written.code == 0, written.err
        (tmp_path / form).write_text(written.out)
        assert shell("audit", "--fail-on", "low", "--baseline", form).code == 0
    assert shell("audit", "--fail-on", "low").code == 1
    with world.jamb() as jamb:
        jamb.clients.register(unique("Ownerless"), "Is owned by nobody")
        assert len(fingerprints_in(jamb.findings.report(ReportForm.SARIF))) == jamb.audit().waived + sum(
            jamb.audit().open.values()
        )
    fails = shell("audit", "--fail-on", "medium", "--baseline", "sarif")
    assert (fails.code, "1 new finding of severity medium or worse" in fails.err) == (1, True)
    (tmp_path / "other").write_text("{}")
    assert shell("audit", "--baseline", "other").code == 2
    listed = shell("audit", "--by", "client", "-o", "json").json()["findings"]
    done = shell.signed_in("steward")("audit", "waive", listed[0]["id"][:12], "--days", "3", "--reason", "Known")
    assert (done.code, "in 3 days" in done.out) == (0, True), done.err
    assert shell.signed_in("steward")("audit", "end-waiver", listed[0]["id"]).code == 0
    assert shell.signed_in("steward")("audit", "assign", "zzzz", "--to", "x").code == 2
