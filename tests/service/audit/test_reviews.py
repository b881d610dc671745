"""Access reviews from the question to what comes of it; removing and restoring; evidence that verifies offline."""

from __future__ import annotations

import json
import zipfile
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from sqlmodel import Session

from jamb.actions.audit.reviews import close_due
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.notices.notices import gather
from jamb.actions.notices.rounds import all_that_stands
from jamb.client import BadInput, Conflict, Forbidden, Jamb, NotFound
from jamb.client.audit.evidence import verify_evidence
from jamb.core.audit.reviews import Answer
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import NameTaken, StillInUse
from jamb.core.notices import NoticeKind
from jamb.core.permissions import DataClass
from jamb.core.reach import ReachKind
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings
from jamb.store.base.sealing import Sealer
from jamb.store.connections.engine import make_engine
from jamb.wire.audit.reviews import ReviewItem
from jamb.wire.resources.reach import ReachSent
from tests import patient
from tests.world import Made, World, unique, wait_until

ONLY_DUTY = ReachSent(kind=ReachKind.ONLY, collections=["duty"])


@pytest.fixture
def steward(world: World) -> Iterator[Jamb]:
    with world.jamb("steward") as jamb:
        yield jamb


@pytest.fixture
def backend(world: World) -> Iterator[Backend]:
    engine = make_engine(world.cluster.url)
    sealer: Sealer = sealer_for(Settings(home=world.home), engine, datetime.now(UTC))
    yield Backend(engine, sealer, world.base_url)
    engine.dispose()


def items_of(rows: list[ReviewItem], made: Made) -> dict[str, ReviewItem]:
    return {one.permission: one for one in rows if one.client_id == made.id}


def told(backend: Backend, now: datetime) -> list[tuple[NoticeKind, str]]:
    with Session(backend.engine) as session:
        return [
            (one.kind, one.words)
            for one in gather(session, find_directory(session, "quillhaven"), all_that_stands(now), now)
        ]


def test_owners_answer_and_what_they_say_is_carried_out_by_whoever_may(
    world: World, steward: Jamb, backend: Backend
) -> None:
    mail = world.client(granted=["dispatches.read", "dispatches.send"], resource="dispatches")
    berths = world.client(granted=["berths.view", "arrivals.view"])
    seen = steward.reviews.preview(clients=[mail.id, berths.id])
    assert (seen.clients, seen.items, seen.owners, seen.ownerless) == (2, 4, 1, [])
    name = unique("Review")
    review = steward.reviews.start(name, days=10, clients=[mail.id, berths.id])
    assert review.answers["waiting"] == 4
    now = datetime.now(UTC)
    asked = [words for kind, words in told(backend, now) if kind is NoticeKind.REVIEW_ASKS and name in words]
    assert len(asked) == 2
    keys = {now: None, now + timedelta(days=4): None, now + timedelta(days=9, hours=2): None}
    with Session(backend.engine) as session:
        directory = find_directory(session, "quillhaven")
        for moment in keys:
            keys[moment] = next(  # type: ignore[assignment]
                one.key
                for one in gather(session, directory, all_that_stands(moment), moment)
                if name in one.words and one.client_id == mail.id
            )
    assert len(set(keys.values())) == 3, "asked at once, and brought to mind a week and a day before the end"
    # The owner sees what is asked, with its use, and nothing of other clients.
    with world.jamb(None) as owner:
        (mine,) = [one for one in owner.reviews.mine() if one.review.id == review.id]
        rows = {**items_of(mine.items, mail), **items_of(mine.items, berths)}
        assert len(mine.items) == 4
        assert (rows["berths.view"].used, rows["berths.view"].opens) == ("too-early", ["List berths", "Read one berth"])
        with pytest.raises(Forbidden):
            owner.reviews.read(review.id)
        with pytest.raises(BadInput, match="where it would do"):
            owner.reviews.answer(review.id, rows["dispatches.read"], Answer.NARROW)
        owner.reviews.answer(review.id, rows["dispatches.read"], Answer.NARROW, narrower=ONLY_DUTY)
        owner.reviews.answer(review.id, rows["dispatches.send"], Answer.GIVE_UP, words="The bridge does it")
        owner.reviews.answer(review.id, rows["berths.view"], Answer.GIVE_UP)
        again = owner.reviews.answer(review.id, rows["berths.view"], Answer.CONFIRM, words="I was wrong")
        assert (again.answer, again.words) == (Answer.CONFIRM, "I was wrong")
        with pytest.raises(Forbidden):
            owner.reviews.carry_out(review.id)
    with world.jamb("pia") as other, pytest.raises(Forbidden):
        other.reviews.answer(review.id, rows["berths.view"], Answer.GIVE_UP)
    # What nobody answered is proposed at the end, and stands until somebody who may has looked.
    close_due(backend, "quillhaven", now + timedelta(days=9))
    assert steward.reviews.read(review.id).closed_at is None
    with world.database() as database:
        database.execute("update review set ends_at = now() where id = %s", [review.id])
    assert close_due(backend, "quillhaven", datetime.now(UTC)) >= 1
    assert steward.reviews.read(review.id).closed_at is not None
    proposed = list(steward.reviews.items(review.id, Answer.PROPOSED))
    assert [(one.client_id, one.permission) for one in proposed] == [(berths.id, "arrivals.view")]
    assert len(list(steward.reviews.items(review.id))) == 4
    assert {one.permission for one in steward.consent.list(berths.id)} == {"berths.view", "arrivals.view"}
    with world.jamb(None) as owner, pytest.raises(Conflict, match="closed"):
        owner.reviews.answer(review.id, rows["berths.view"], Answer.CONFIRM)
    over = [words for kind, words in told(backend, datetime.now(UTC)) if kind is NoticeKind.REVIEW_OVER]
    assert any(name in words and "2 to be ended or narrowed, 1 without an answer" in words for words in over)
    with world.jamb("approver") as approver:
        done = approver.reviews.carry_out(review.id)
        assert (len(done.done), done.failed) == (3, [])
        assert approver.reviews.carry_out(review.id).done == [], "once"
    held = {(one.permission, one.reach.words) for one in steward.consent.list(mail.id)}
    assert held == {("dispatches.read", "only duty")}
    assert {one.permission for one in steward.consent.list(berths.id)} == {"berths.view"}
    actions = [one.action for one in steward.ledger.list(client=berths.id)]
    assert actions[:2] == ["review.carried-out", "consent.withdrawn"]


def test_a_review_has_a_scope_that_holds_something(steward: Jamb) -> None:
    everything = steward.reviews.preview()
    restricted = steward.reviews.preview(data=DataClass.RESTRICTED)
    assert 0 < restricted.items < everything.items
    assert "Radio bridge" in everything.ownerless
    for scope, days in (
        ({"resource": "nowhere"}, 5),
        ({"resource": "tariffs", "data": DataClass.RESTRICTED}, 5),
        ({}, 0),
    ):
        with pytest.raises((BadInput, NotFound)):
            steward.reviews.start("No", days=days, **scope)  # type: ignore[arg-type]


def test_a_client_is_removed_only_when_it_is_dead_and_comes_back_as_it_was(world: World, steward: Jamb) -> None:
    made = world.client(granted=["berths.view"], asked=["arrivals.view"])
    steward.roles.assign("lookout", HolderKind.CLIENT, [made.id])
    token = world.ask_token(made).json()["access_token"]
    (seen,) = steward.removals.preview([made.id])
    assert len(seen.against) == 2
    assert seen.consents == ["berths: berths.view (application), everywhere"]
    assert seen.roles == ["berths: lookout, everywhere"]
    with pytest.raises(StillInUse) as refused:
        steward.removals.remove(made.id)
    assert {one.allowed.partition(":")[0] for one in refused.value.violations} == {
        "it is live",
        "credentials that are not dead",
    }
    steward.clients.disable(made.id)
    steward.credentials.withdraw(made.id, steward.secrets.list(made.id)[0].id)
    assert steward.removals.preview([made.id])[0].against == []
    gone = steward.removals.remove(made.id, reason="A leftover")
    assert 29 <= (gone.restore_until - datetime.now(UTC)).days <= 30
    with pytest.raises(NotFound, match="was removed"):
        steward.clients.read(made.id)
    assert made.id not in {one.id for one in steward.clients.list(q=made.name)}
    wait_until(lambda: world.call_berths(token).status_code in {401, 403})
    assert list(steward.findings.list(client=made.id)) == []
    assert world.ask_token(made).status_code in {400, 401}
    # Its name is free; while another has it, it cannot come back.
    other = steward.clients.register(made.name, "Has its name")
    with pytest.raises(NameTaken):
        steward.removals.restore(made.id)
    steward.clients.change(other.id, name=unique("Renamed"))
    with world.jamb("registrar") as registrar, pytest.raises(Forbidden):
        registrar.removals.restore(made.id)
    back = steward.removals.restore(made.id)
    assert (back.state, back.name) == ("disabled", made.name)
    held = [one for place in steward.clients.read(made.id).resources for one in place.rungs if one.granted_at]
    assert {one.permission for one in held} == {"berths.view", "arrivals.view"}
    assert [one.action for one in steward.ledger.list(client=made.id)][:2] == ["client.restored", "client.removed"]
    steward.removals.remove(made.id)
    with world.database() as database:
        database.execute("update removal set restore_until = now() where client_id = %s", [made.id])
    with pytest.raises(Conflict, match="could be restored until"):
        steward.removals.restore(made.id)


def test_the_guard_of_a_resource_is_not_removed(steward: Jamb) -> None:
    (seen,) = steward.removals.preview([steward.clients.find("Berths API").id])
    assert any("guard of berths" in one for one in seen.against)


def test_a_registration_is_changed_and_its_addresses_are_looked_at(world: World, steward: Jamb) -> None:
    made = world.client(secret=False, kind="web")
    changed = steward.clients.change(
        made.id, purpose="Shows more", redirect_uris=["https://a.quillhaven.example/r"], publisher="Maker.Example."
    )
    assert (changed.purpose, changed.publisher) == ("Shows more", "maker.example")
    with pytest.raises(BadInput) as refused:
        steward.clients.change(
            made.id,
            redirect_uris=["http://a.example/r", "https://a.example/*", "https://a.example/r#x", "nowhere"],
            publisher="not a domain",
        )
    assert [one.field for one in refused.value.violations] == [*(f"redirect_uris.{n}" for n in range(4)), "publisher"]
    assert steward.clients.read(made.id).client.redirect_uris == ["https://a.quillhaven.example/r"]
    with pytest.raises(BadInput, match="a moment to come"):
        steward.clients.change(made.id, trial_ends_at=datetime.now(UTC) - timedelta(days=1))
    soon = steward.clients.change(made.id, trial_ends_at=datetime.now(UTC) + timedelta(days=1))
    assert soon.trial_ends_at is not None
    assert steward.clients.change(made.id, no_trial=True).trial_ends_at is None
    with pytest.raises(BadInput, match="something that changes"):
        steward.clients.change(made.id, purpose="Shows more")
    entry = next(iter(steward.ledger.list(client=made.id)))
    assert (entry.action, entry.before is not None) == ("client.changed", True)


def test_evidence_verifies_offline_and_any_change_of_it_is_seen(world: World, tmp_path: Path) -> None:
    bundle = tmp_path / "evidence.zip"
    with world.jamb("auditor") as auditor:
        assert auditor.findings.save_evidence(bundle) == bundle.stat().st_size
        head = auditor.ledger.verify()
    keys = patient.get(f"{world.base_url}/d/quillhaven/jwks").json()
    found = verify_evidence(bundle, keys)
    assert (found.trusted, found.issuer) == (True, f"{world.base_url}/d/quillhaven")
    assert found.ledger_entries <= head.entries
    assert verify_evidence(bundle).trusted is False
    with zipfile.ZipFile(bundle) as archive:
        parts = {name: archive.read(name) for name in archive.namelist()}
    registrations = [json.loads(line) for line in parts["registrations.jsonl"].splitlines()]
    assert "Radio bridge" in {one["name"] for one in registrations}
    assert b"Personal data, this year" in parts["reviews.jsonl"]
    other_keys = patient.get(f"{world.base_url}/d/brisling/jwks").json()
    with pytest.raises(BadInput, match="not among the given"):
        verify_evidence(bundle, other_keys)
    altered = {
        "a record": parts | {"registrations.jsonl": parts["registrations.jsonl"].replace(b"Radio", b"Audio", 1)},
        "the manifest": parts | {"manifest.json": parts["manifest.json"].replace(b'"entries": ', b'"entries": 1', 1)},
        "one file more": parts | {"extra.txt": b"x"},
        "one file less": {name: part for name, part in parts.items() if name != "findings.csv"},
        "no signature": {name: part for name, part in parts.items() if name != "manifest.jws"},
    }
    for changed in altered.values():
        with zipfile.ZipFile(bundle, "w") as archive:
            for name, part in changed.items():
                archive.writestr(name, part)
        with pytest.raises(BadInput):
            verify_evidence(bundle, keys)
    bundle.write_bytes(b"not an archive")
    with pytest.raises(BadInput):
        verify_evidence(bundle)
