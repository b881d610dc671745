"""A directory made by an earlier version: its schema is brought forward, and Jamb's own API to what it offers now."""

from __future__ import annotations

import os
from collections.abc import Iterator
from datetime import UTC, datetime
from pathlib import Path
from uuid import uuid4

import pytest
import sqlalchemy as sa
from alembic.config import Config
from alembic.script import ScriptDirectory
from sqlmodel import Session

from jamb.actions.base.act import act_in
from jamb.actions.base.backend import Backend
from jamb.actions.directory import directories
from jamb.actions.resources import resources
from jamb.core import own_api
from jamb.core.directory.policy import DirectoryPolicy
from jamb.store.base import migrate as migrate_module
from jamb.store.base.migrate import migrate, run_alembic
from jamb.store.base.sealing import KEY_BYTES, Sealer
from jamb.store.base.work import Actor
from jamb.store.connections.engine import make_engine
from tests.world import World

ACTOR = Actor("service", "test", "Test", "Test")


@pytest.fixture
def backend(world: World) -> Iterator[Backend]:
    """A database of its own, at the schema of the first version with a person who holds a role."""
    name = f"upgrade_{uuid4().hex[:8]}"
    with world.database() as database:
        database.execute(f"create database {name}")  # type: ignore[arg-type]
    engine = make_engine(world.cluster.url.rsplit("/", 1)[0] + f"/{name}")
    with engine.begin() as connection:
        run_alembic("upgrade", connection, "0001")
    with engine.begin() as connection:
        for statement in FIRST_VERSION:
            connection.execute(sa.text(statement))
    migrate(engine)
    yield Backend(engine, Sealer(os.urandom(KEY_BYTES), b""), "http://test.example")
    engine.dispose()
    with world.database() as database:
        database.execute(f"drop database {name}")  # type: ignore[arg-type]


ID = "'00000000-0000-0000-0000-00000000000{}'"
FIRST_VERSION = [
    f"insert into directory values ({ID.format(1)}, 'first', 'First', 'first.example', '{{}}', now())",
    (
        "insert into resource (id, directory_id, name, title, identifier, revision) "
        f"values ({ID.format(2)}, {ID.format(1)}, 'quay', 'Quay', 'https://quay.example', 1)"
    ),
    f"insert into role values ({ID.format(3)}, {ID.format(1)}, {ID.format(2)}, 'hand', '{{view}}')",
    (
        "insert into person (id, directory_id, login, name, live, failed_sign_ins, created_at) "
        f"values ({ID.format(4)}, {ID.format(1)}, 'a@first.example', 'Ada', true, 0, '2026-01-01T00:00Z')"
    ),
    f"insert into role_assignment values ({ID.format(3)}, {ID.format(4)})",
]


def test_roles_held_before_groups_and_clients_could_are_held_still(backend: Backend) -> None:
    with Session(backend.engine) as session:
        held = session.execute(sa.text("select person_id, assigned_at, reach, expires_at from role_assignment")).one()
        assert str(held.person_id) == ID.format(4).strip("'")
        assert (held.assigned_at, held.reach, held.expires_at) == (datetime(2026, 1, 1, tzinfo=UTC), None, None)
        for statement in FIRST_VERSION:
            table = statement.split()[2]
            assert session.execute(sa.text(f"select count(*) from {table}")).scalar_one() == 1
        session.execute(sa.text("truncate directory cascade"))
        session.commit()


def test_what_new_rules_look_at_is_looked_at_anew(backend: Backend) -> None:
    with backend.engine.begin() as connection:
        run_alembic("downgrade", connection, "0043")
        for name, addresses in (("web", "{https://web.example/back}"), ("job", "{}")):
            connection.execute(
                sa.text(
                    "insert into client (id, directory_id, name, folded_name, purpose, kind, state, builtin, "
                    "registered_at, registered_by, publisher, redirect_uris) values "
                    f"('{name}', {ID.format(1)}, '{name}', '{name}', '', 'web', 'active', false, now(), 'Ada', '', "
                    ":uris)"
                ),
                {"uris": addresses},
            )
        connection.execute(sa.text("delete from audit_stale"))
    migrate(backend.engine)
    with Session(backend.engine) as session:
        noted = set(session.execute(sa.text("select client_id from audit_stale")).scalars())
        session.execute(sa.text("truncate directory cascade"))
        session.commit()
    assert noted == {"web"}, "the rules about redirect URIs came later than the findings that are kept"


def test_jambs_own_api_is_brought_to_what_this_version_offers(backend: Backend) -> None:
    with Session(backend.engine) as session:
        session.execute(sa.text("truncate directory cascade"))
        session.commit()
    slug = "old"
    made = directories.open_directory(backend, slug, "Old", "old.example", DirectoryPolicy(), ACTOR, datetime.now(UTC))
    with Session(backend.engine) as session:
        # As an earlier version left it: fewer operations, a smaller steward, no grants for what is new.
        for statement in (
            "delete from operation where name = 'roles.save' and resource_id = :resource",
            "update permission set unlocks = array_remove(unlocks, 'roles.save') where resource_id = :resource",
            "delete from permission where name = 'people.manage' and resource_id = :resource",
            "update role set permissions = '{registry.write}' where name = 'steward' and resource_id = :resource",
            "delete from consent where permission = 'people.manage' and resource_id = :resource",
            "update resource set object_name = '', revision = revision + 1 where id = :resource",
        ):
            found = "(select id from resource where directory_id = :directory and name = 'jamb')"
            session.execute(sa.text(statement.replace(":resource", found)), {"directory": made.id})
        session.commit()
    assert directories.refresh_own_api(backend, datetime.now(UTC)) == [slug]
    assert directories.refresh_own_api(backend, datetime.now(UTC)) == [], "once is enough"
    now = resources.read_resource(act_in(backend, slug, datetime.now(UTC)), own_api.NAME).catalogue
    assert now == own_api.own_catalogue(backend.own_identifier(slug))
    with Session(backend.engine) as session:
        held = session.execute(
            sa.text(
                "select count(*) from consent join client on client.id = client_id "
                "where permission = 'people.manage' and directory_id = :directory"
            ),
            {"directory": made.id},
        ).scalar_one()
        steward = session.execute(
            sa.text("select permissions from role where name = 'steward' and directory_id = :directory"),
            {"directory": made.id},
        ).scalar_one()
    assert held == 2, "the console and the command line may do for a person what is new"
    assert "people.manage" in steward


def test_migrations_are_known_by_their_files_as_by_their_chain() -> None:
    config = Config()
    config.set_main_option("script_location", str(Path(migrate_module.__file__).parents[1] / "migrations"))
    chain = [
        (one.revision, getattr(one.module, "AFTER", "")) for one in ScriptDirectory.from_config(config).walk_revisions()
    ]
    assert [tuple(step) for step in migrate_module._steps()] == chain[::-1]
