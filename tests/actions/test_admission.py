"""Who is let in: one statement that reads what the others read, and a connection that is a transaction for the work."""

from __future__ import annotations

from datetime import timedelta

import psycopg
import pytest
import sqlalchemy as sa
from sqlmodel import Session, select

from jamb.actions.base.backend import console_client_id
from jamb.actions.directory.groups import save_group
from jamb.actions.directory.roles import assign_role
from jamb.core import own_api
from jamb.core.directory.roles import HolderKind
from jamb.core.reach import EVERYWHERE
from jamb.store.clients import clients
from jamb.store.connections.lease import Lease
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
