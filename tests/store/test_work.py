"""The unit of work and what is sealed at rest, against the real database."""

from __future__ import annotations

import os
import threading
from collections.abc import Iterator
from contextlib import ExitStack
from datetime import UTC, datetime
from uuid import UUID, uuid4

import psycopg
import pytest
from sqlalchemy import Engine, event, text
from sqlalchemy.exc import DBAPIError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlmodel import Session, select

from jamb.actions.audit import today
from jamb.actions.audit.escalation_paths import read_escalation_paths
from jamb.actions.audit.findings import list_findings, run_audit
from jamb.actions.audit.posture import read_posture
from jamb.actions.base.act import Act, act_in
from jamb.actions.base.backend import Backend
from jamb.actions.clients import clients as client_actions
from jamb.actions.clients import registrations
from jamb.actions.clients.dossier import read_dossier
from jamb.actions.directory import directories
from jamb.core.clients.clients import ClientKind, registration
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import Busy, Misuse, NameTaken, StoreUnavailable
from jamb.core.ledger import verify
from jamb.service.keys import LOOK_AGAIN_SECONDS, Keyring
from jamb.store.audit.client_facts import FEW
from jamb.store.audit.findings import Wanted
from jamb.store.base.sealing import KEY_BYTES, Sealer, SealingKey
from jamb.store.base.work import Actor, observation
from jamb.store.clients.clients import ClientRow
from jamb.store.connections.bounded import BoundedConnection, Patience
from jamb.store.connections.engine import MOST_OVERFLOW, make_engine
from jamb.store.connections.outages import outage_of, reason_of
from jamb.store.directory import ledger
from jamb.store.directory.directories import SigningKeyRow
from jamb.store.resources.usage import AttemptRow
from tests.world import World, unique

NOW = datetime.now(UTC)
ACTOR = Actor("person", "p1", "Tester", "tests")


@pytest.fixture(scope="module")
def engine(world: World) -> Iterator[Engine]:
    made = make_engine(world.cluster.url)
    yield made
    made.dispose()


@pytest.fixture(scope="module")
def backend(world: World, engine: Engine) -> Backend:
    """Backend of our own on the same database: another sealing key, so that nothing of the demo can be opened."""
    return Backend(engine, Sealer(os.urandom(KEY_BYTES), b""), world.base_url)


@pytest.fixture(scope="module")
def place(backend: Backend) -> Directory:
    slug = f"test-{uuid4().hex[:8]}"
    return directories.open_directory(backend, slug, "Test", "test.example", DirectoryPolicy(), ACTOR, NOW)


def row(directory_id: UUID, name: str) -> ClientRow:
    return ClientRow(
        id=uuid4().hex[:20],
        directory_id=directory_id,
        name=name,
        folded_name=name,
        purpose="p",
        kind="service",
        state="live",
        registered_at=NOW,
        registered_by="Tester",
    )


def names(engine: Engine, directory_id: UUID) -> set[str]:
    with Session(engine) as session:
        return set(session.exec(select(ClientRow.name).where(ClientRow.directory_id == directory_id)))


def length(engine: Engine, directory_id: UUID) -> int:
    with Session(engine) as session:
        head = ledger.head(session, directory_id)
        assert head is not None
        return head.sequence


def test_a_change_without_an_entry_is_not_committed(backend: Backend, place: Directory) -> None:
    name = unique("silent")
    with (
        pytest.raises(Misuse, match="without a ledger entry"),
        Act(backend, place, ACTOR, NOW).change() as unit,
    ):
        unit.session.add(row(place.id, name))
    assert name not in names(backend.engine, place.id)


def test_what_raises_leaves_neither_record_nor_entry(backend: Backend, place: Directory) -> None:
    name, before = unique("broken"), length(backend.engine, place.id)
    with pytest.raises(ZeroDivisionError), Act(backend, place, ACTOR, NOW).change() as unit:
        unit.session.add(row(place.id, name))
        unit.enter("client.registered", {"kind": "client", "name": name})
        raise ZeroDivisionError
    assert name not in names(backend.engine, place.id)
    assert length(backend.engine, place.id) == before


def test_a_constraint_by_name_becomes_the_named_error_and_others_do_not(backend: Backend, place: Directory) -> None:
    name = unique("named")

    def add(constraint: str) -> None:
        with Act(backend, place, ACTOR, NOW).change() as unit:
            with unit.constraint(constraint, lambda: NameTaken("taken")):
                unit.session.add(row(place.id, name))
            unit.enter("client.registered", {"kind": "client", "name": name})

    add("client_name_taken")
    with pytest.raises(NameTaken):
        add("client_name_taken")
    with pytest.raises(Exception, match="client_name_taken"):
        add("some_other_constraint")


def test_entries_of_many_writers_make_one_sound_chain(backend: Backend, place: Directory) -> None:
    before = length(backend.engine, place.id)

    def write() -> None:
        for _ in range(10):
            with Act(backend, place, ACTOR, NOW).change() as unit:
                name = unique("many")
                unit.session.add(row(place.id, name))
                unit.enter("client.registered", {"kind": "client", "name": name}, after={"n": 1})
                unit.enter("permission.asked", {"kind": "client", "name": name}, before={"n": 1})

    writers = [threading.Thread(target=write) for _ in range(4)]
    for writer in writers:
        writer.start()
    for writer in writers:
        writer.join()
    with Session(backend.engine) as session:
        head = ledger.head(session, place.id)
        assert head is not None
        assert head.sequence == before + 80
        fault = verify(ledger.walk(session, place.id), head.sequence, head.hash, head.seal, backend.sealer.ledger_key)
        assert fault is None
        other = verify(ledger.walk(session, place.id), head.sequence, head.hash, head.seal, b"x" * 32)
        assert other is not None, "the seal is worth nothing under another key"


def test_an_observation_needs_no_entry_and_commits_or_not_as_one(backend: Backend, place: Directory) -> None:
    def attempt(client_id: str) -> AttemptRow:
        return AttemptRow(directory_id=place.id, client_id=client_id, at=NOW, outcome="issued")

    with observation(backend.engine) as session:
        session.add(attempt("seen"))
    with pytest.raises(ZeroDivisionError), observation(backend.engine) as session:
        session.add(attempt("unseen"))
        session.flush()
        raise ZeroDivisionError
    with Session(backend.engine) as session:
        found = session.exec(select(AttemptRow.client_id).where(AttemptRow.directory_id == place.id)).all()
    assert "seen" in found
    assert "unseen" not in found


# What is sealed


def test_another_sealing_key_never_writes_on(backend: Backend, place: Directory) -> None:
    """It would seal anew what it cannot have sealed: a chain altered before would be whole again."""
    before = length(backend.engine, place.id)
    stranger = Backend(backend.engine, Sealer(os.urandom(KEY_BYTES), b""), backend.base_url)
    with pytest.raises(Misuse, match="JAMB_SEALING_KEY"):
        directories.change_policy(Act(stranger, place, ACTOR, NOW), {"warn_days": 9})
    assert length(backend.engine, place.id) == before
    directories.change_policy(Act(backend, place, ACTOR, NOW), {"warn_days": 9})
    assert length(backend.engine, place.id) == before + 1


def test_a_signing_key_opens_under_its_own_sealing_key_and_row_only(backend: Backend, place: Directory) -> None:
    with Session(backend.engine) as session:
        mine, other = session.exec(select(SigningKeyRow).where(SigningKeyRow.directory_id == place.id))
        foreign = session.exec(select(SigningKeyRow).where(SigningKeyRow.directory_id != place.id)).first()
    assert foreign is not None
    ring = Keyring(backend)
    assert {mine.algorithm, other.algorithm} == {"ES256", "RS256"}
    public = ring.private(mine.kid).public_key()
    assert ring.public(mine.kid, str(place.id)) == public
    assert ring.public(mine.kid, str(uuid4())) is None, "a key of another directory is none"
    with pytest.raises(Misuse, match="JAMB_SEALING_KEY"):
        ring.private(foreign.kid)
    with pytest.raises(Misuse):
        backend.sealer.open(mine.sealed, f"{uuid4()}/{mine.kid}")
    assert backend.sealer.seal(b"x", "a") != backend.sealer.seal(b"x", "a"), "never the same nonce"
    assert "key" not in repr(backend.sealer).lower().replace("sealer", "")


def test_a_key_found_withdrawn_signs_no_more_though_it_was_looked_up_of_late(
    backend: Backend, place: Directory, monkeypatch: pytest.MonkeyPatch
) -> None:
    by, clock, now = SigningAlgorithm.RS256, [100.0], datetime.now(UTC)
    monkeypatch.setattr("jamb.service.keys.time.monotonic", lambda: clock[0])
    ring = Keyring(backend)
    kid = ring.signing(place.id, by, now)
    ring.private(kid)
    clock[0] += LOOK_AGAIN_SECONDS - 1
    assert ring.signing(place.id, by, now) == kid == ring.signing_cached(place.id, by)
    with observation(backend.engine) as session:
        session.get_one(SigningKeyRow, kid).withdrawn_at = now
    clock[0] += 2
    assert ring.public(kid, str(place.id)) is None
    assert ring.signing_cached(place.id, by) is None
    assert ring.signing(place.id, by, now) != kid


def test_every_use_has_a_key_of_its_own() -> None:
    sealer = Sealer(bytes(KEY_BYTES), b"")
    assert len({sealer.credential_key, sealer.session_key, sealer.ledger_key, bytes(KEY_BYTES)}) == 4
    with pytest.raises(Misuse, match="32 bytes"):
        SealingKey(b"short")


# Reading is set-wise


def test_lists_and_audit_cost_the_same_number_of_statements_for_some_clients_or_sixty(backend: Backend) -> None:
    def opened(count: int) -> Directory:
        slug = f"size-{uuid4().hex[:8]}"
        made = directories.open_directory(backend, slug, "Size", "size.example", DirectoryPolicy(), ACTOR, NOW)
        for _ in range(count):
            registrations.register(
                Act(backend, made, ACTOR, NOW), registration(unique("Sized"), "p", ClientKind.SERVICE), []
            )
        return made

    few, some, large = opened(2), opened(FEW + 1), opened(60)
    for read in (
        lambda slug: client_actions.list_clients(act_in(backend, slug, NOW), limit=100),
        lambda slug: run_audit(act_in(backend, slug, NOW)),
        lambda slug: read_posture(act_in(backend, slug, NOW)),
        lambda slug: list_findings(act_in(backend, slug, NOW), Wanted(), None, 100),
        lambda slug: read_escalation_paths(act_in(backend, slug, NOW)),
        lambda slug: today.read_today(act_in(backend, slug, NOW), "nobody"),
    ):
        for directory in (few, some, large):
            read(directory.slug)
        of_few, of_some, of_large = (
            statements(backend.engine, lambda read=read, slug=directory.slug: read(slug))
            for directory in (few, some, large)
        )
        # Of a few what is asked for by their ids comes in one statement.
        assert of_few <= of_some == of_large


def test_a_dossier_costs_no_more_statements_than_it_has_kinds_of_rows(backend: Backend) -> None:
    slug = f"size-{uuid4().hex[:8]}"
    made = directories.open_directory(backend, slug, "Size", "size.example", DirectoryPolicy(), ACTOR, NOW)
    client = registrations.register(
        Act(backend, made, ACTOR, NOW), registration(unique("Sized"), "p", ClientKind.SERVICE), []
    )
    read_dossier(act_in(backend, slug, NOW), client.id)
    assert statements(backend.engine, lambda: read_dossier(act_in(backend, slug, NOW), client.id)) <= 10


def statements(engine: Engine, work) -> int:  # type: ignore[no-untyped-def]
    seen: list[str] = []

    def note(*arguments: object) -> None:
        seen.append(str(arguments[2]))

    event.listen(engine, "before_cursor_execute", note)
    try:
        work()
    finally:
        event.remove(engine, "before_cursor_execute", note)
    assert seen
    return len(seen)


def test_an_outage_is_told_from_a_refused_statement(engine: Engine) -> None:
    nowhere = make_engine("postgresql://x:y@127.0.0.1:9/x")
    with pytest.raises(OperationalError) as away, nowhere.connect():
        pass
    nowhere.dispose()
    assert isinstance(outage_of(away.value), StoreUnavailable)
    with pytest.raises(Exception, match="nonsense") as refused, engine.connect() as connection:
        connection.exec_driver_sql("nonsense")
    assert outage_of(refused.value) is None


# What the server says (PostgreSQL manual, appendix A), and what is told of it.
SAID = {
    "a full disk": ("53100", StoreUnavailable, "no space left"),
    "no connection left": ("53300", StoreUnavailable, "no connection left"),
    "a standby": ("25006", StoreUnavailable, "takes no changes"),
    "a statement that took too long": ("57014", Busy, "did not finish in the time"),
    "a deadlock": ("40P01", Busy, "gave way"),
    "two changes of the same": ("40001", Busy, "gave way"),
    "a lock that somebody holds": ("55P03", Busy, "Another change holds"),
    "a wrong password": ("28P01", StoreUnavailable, "does not let the service in"),
}


@pytest.mark.parametrize(("state", "kind", "words"), SAID.values(), ids=SAID.keys())
def test_what_the_database_cannot_do_is_said_by_its_reason_and_logged_without_values(
    engine: Engine, state: str, kind: type[Exception], words: str
) -> None:
    raising = f"do $$ begin raise exception 'a value' using errcode = '{state}', detail = 'hidden'; end $$"
    with pytest.raises(DBAPIError) as failed, engine.connect() as connection:
        connection.exec_driver_sql(raising)
    told = outage_of(failed.value)
    assert isinstance(told, kind)
    assert words in told.message
    assert told.retry_after_seconds
    reason = reason_of(failed.value)
    assert reason["sqlstate"] == state
    assert "hidden" not in str(reason)


def test_a_statement_ends_when_the_server_is_silent_and_the_connection_is_another(world: World) -> None:
    patient = make_engine(world.cluster.url, Patience(0.3))
    for statement in ("select pg_sleep(60)", "set statement_timeout = 0; select pg_sleep(60)"):
        with pytest.raises(OperationalError) as failed, patient.connect() as connection:
            connection.exec_driver_sql(statement)
        assert outage_of(failed.value) is not None
    with patient.connect() as connection:
        assert connection.exec_driver_sql("select 1").scalar_one() == 1
    patient.dispose()


def test_what_is_prepared_outlives_reads_and_what_is_undone(world: World) -> None:
    one = make_engine(world.cluster.url, pool_size=1)
    asked = select(ClientRow.id).where(ClientRow.name == "nobody")
    prepared = text("select statement from pg_prepared_statements where statement like '%client.name =%'")
    for number in range(8):
        # A session that is closed undoes its transaction, as one does in which something was refused.
        with Session(one) as session:
            assert session.exec(asked).all() == []
            if number % 2:
                with pytest.raises(DBAPIError):
                    session.execute(text("select 1 / 0"))
    with Session(one) as session:
        assert len(session.execute(prepared).all()) == 1
    one.dispose()


def test_a_pool_whose_connections_all_work_is_busy_and_not_gone(world: World) -> None:
    full = make_engine(world.cluster.url, pool_size=1, pool_timeout=0.2)
    with ExitStack() as held:
        for _ in range(1 + MOST_OVERFLOW):
            held.enter_context(full.connect())
        with pytest.raises(PoolTimeout) as waited, full.connect():
            pass
    full.dispose()
    error = outage_of(waited.value)
    assert isinstance(error, Busy)
    assert error.retry_after_seconds


def test_connections_that_never_answer_are_an_outage_however_new_they_are(
    engine: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A pooler takes connections for a server that is away."""

    def silent(_: BoundedConnection) -> None:
        raise psycopg.OperationalError("server conn crashed?")

    engine.dispose()
    monkeypatch.setattr(BoundedConnection, "ping", silent)
    with pytest.raises(OperationalError) as caught:
        engine.connect()
    assert isinstance(outage_of(caught.value), StoreUnavailable)
