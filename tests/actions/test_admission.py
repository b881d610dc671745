"""Who is let in: one statement that reads what the others read, and a connection that is a transaction for the work."""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID, uuid4

import psycopg
import pytest
import sqlalchemy as sa
from sqlmodel import Session, select

from jamb.actions.base.backend import console_client_id
from jamb.actions.directory.groups import save_group
from jamb.actions.directory.roles import assign_role
from jamb.core import own_api
from jamb.core.authorization.devices import DeviceState
from jamb.core.directory.roles import HolderKind
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.reach.details import document
from jamb.store.audit import client_facts
from jamb.store.clients import clients
from jamb.store.connections.lease import Lease
from jamb.store.credentials.credentials import DeviceRequestRow
from jamb.store.directory import people, roles
from jamb.store.entry import admission
from jamb.store.resources import resources
from tests.actions.scene import NOW, Scene


def test_what_is_read_in_one_statement_is_what_the_others_read(scene: Scene) -> None:
    save_group(scene.act(), "harbour", "Harbour", ["tom@alder.example"], [])
    save_group(scene.act(), "watch", "Watch", ["vera@alder.example"], ["harbour"])
    assign_role(scene.act(), "auditor", HolderKind.GROUP, ["watch"], EVERYWHERE, NOW + timedelta(days=3))
    with Session(scene.backend.engine) as session:
        directory = scene.act().directory
        place = resources.by_name(session, directory.id, own_api.NAME)
        console = console_client_id(directory.slug)
        for now in (NOW, NOW + timedelta(days=4)):
            for row in session.exec(select(people.PersonRow)).all():
                known = admission.by_caller(session, directory.id, console, row.id, own_api.NAME, now)
                assert (known.person_id, known.person_name, known.person_active) == (row.id, row.name, row.active)
                assert known.roles() == roles.standing(session, row, place.id, now).roles
                consents = [grant for at, grant in clients.held_grants(session, [console])[console] if at == place.id]
                assert sorted(known.consents(), key=repr) == sorted(consents, key=repr)
        assert admission.by_caller(session, directory.id, "nobody", None, own_api.NAME, NOW) is None


def test_a_token_names_what_the_others_read_and_whether_its_sign_in_stands(scene: Scene) -> None:
    client, bound = scene.client(), Reach.only(scene.client("Pier").id)
    tom, ended, stands = scene.people["tom"].id, uuid4(), uuid4()
    with Session(scene.backend.engine) as session:
        directory = scene.act().directory
        place = resources.by_name(session, directory.id, own_api.NAME)
        for name, reach, until in (("auditor", EVERYWHERE, NOW + timedelta(days=3)), ("custodian", bound, None)):
            role = roles.role_by_name(session, directory.id, name)
            held = {"role_id": role.id, "client_id": client.id, "reach": document(reach), "expires_at": until}
            session.add(roles.AssignmentRow(id=uuid4(), assigned_at=NOW, assigned_by="a test", **held))
        for key, until in ((ended, NOW), (stands, None)):
            session.add(sign_in(key, directory.id, client.id, until))
        session.flush()
        for sign_in_id, wanted in ((None, True), (stands, True), (ended, False), (uuid4(), False)):
            found = admission.by_token(session, "alder", client.id, tom, sign_in_id, own_api.NAME, NOW)
            assert found.directory.value() == directory
            assert found.known == admission.by_caller(session, directory.id, client.id, tom, own_api.NAME, NOW)
            assert found.stands is wanted
        by_role = client_facts.held_at(place.id, (), roles.roles_of_clients(session, [client.id])[client.id])
        assert found.known.by_role() == tuple(by_role)
        assert {one.reach for one in by_role} == {EVERYWHERE, bound}
        for slug, name in (("alder", "nobody"), ("elder", client.id)):
            assert admission.by_token(session, slug, name, None, None, own_api.NAME, NOW) is None


def sign_in(key: UUID, directory_id: UUID, client_id: str, ended_at: datetime | None) -> DeviceRequestRow:
    return DeviceRequestRow(
        id=key,
        directory_id=directory_id,
        client_id=client_id,
        device_digest=key.bytes,
        user_digest=key.bytes,
        state=DeviceState.SERVED.value,
        created_at=NOW,
        expires_at=NOW,
        interval_seconds=2,
        ended_at=ended_at,
    )


def test_a_leased_connection_is_undone_as_a_whole(scene: Scene) -> None:
    lease = Lease(scene.backend.engine)
    with Session(lease.open()) as session:
        session.execute(sa.text("create table left_by_admission ()"))
    with pytest.raises(ZeroDivisionError), lease.taken() as connection:
        connection.execute(sa.text("create table left_by_work ()"))
        raise ZeroDivisionError
    with scene.backend.engine.connect() as connection:
        there = connection.execute(
            sa.text("select to_regclass('left_by_admission'), to_regclass('left_by_work')")
        ).one()
        assert [name is not None for name in there] == [True, False]
        assert connection.execute(sa.text("show transaction isolation level")).scalar_one() == "read committed"


def test_a_connection_whose_server_went_away_meanwhile_is_not_used(scene: Scene) -> None:
    with scene.backend.engine.connect() as connection:
        first = connection.execute(sa.text("select pg_backend_pid()")).scalar_one()
    with psycopg.connect(scene.url, autocommit=True) as other:
        other.execute("select pg_terminate_backend(%s, 5000)", [first])
    with scene.backend.engine.connect() as connection:
        assert connection.execute(sa.text("select pg_backend_pid()")).scalar_one() != first
        driver = connection.connection.driver_connection
    driver.close()
    with scene.backend.engine.connect() as connection:
        assert connection.execute(sa.text("select 1")).scalar_one() == 1
