"""Upgrades while serving: what is added goes beside earlier processes, what is taken away comes after them."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from sqlmodel import Session

from jamb.core.errors import Busy
from jamb.store.base import migrate as migrating
from jamb.store.connections.engine import make_engine
from tests import patient
from tests.operating import HERE, PASSWORD, Operator, client_in, opened, operating, steward_of, token
from tests.world import ROOT, World, answers, choose_password, wait_until

ADDS = """
import sqlalchemy as sa
from alembic import op
revision, down_revision, branch_labels, depends_on = "0101", {before!r}, None, None
def upgrade():
    op.add_column("client", sa.Column("berth", sa.Text(), nullable=False, server_default=""))
"""
TAKES_AWAY = """
from alembic import op
revision, down_revision, branch_labels, depends_on = "0102", "0101", None, None
AFTER = "0101"
def upgrade():
    op.drop_column("client", "support_contact")
"""


@pytest.fixture
def operator(world: World, tmp_path: Path) -> Iterator[Operator]:
    with operating(world, tmp_path, world.port + 18) as made:
        yield made


@pytest.fixture
def later(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[str]:
    """A version with two more migrations: in this process alone, so that what is started speaks the present one."""
    present = migrating.newest_revision()
    folder = tmp_path / "later"
    folder.mkdir()
    (folder / "0101.py").write_text(ADDS.format(before=present))
    (folder / "0102.py").write_text(TAKES_AWAY)
    own = migrating.version_folders()
    monkeypatch.setattr(migrating, "version_folders", lambda: (*own, folder))
    migrating._steps.cache_clear()
    yield present
    migrating._steps.cache_clear()


def test_processes_of_the_version_before_go_on_until_it_is_finished(operator: Operator, later: str) -> None:
    engine = make_engine(operator.url)

    def fault_for_the_later() -> str:
        with Session(engine) as session:
            return migrating.schema_fault(session)

    link = opened(operator)
    with operator.serving() as base:
        choose_password(link, PASSWORD)
        with steward_of(base) as console:
            form = client_in(console, ["revocations.read"])
            assert "this version needs 0101" in fault_for_the_later()
            migrating.migrate(engine, finish=False)
            assert fault_for_the_later() == ""
            # Those that run go on, and others of their version start.
            assert token(base, form)
            beside = Operator(operator.home, operator.port + 1, operator.url)
            migrated = beside.runs("migrate", JAMB_PUBLIC_URL=base)
            assert (migrated.returncode, "of a later version" in migrated.stderr) == (1, True), migrated.stderr
            assert "to follow" not in beside.runs("check", JAMB_PUBLIC_URL=base).stdout
            with beside.serving(JAMB_PUBLIC_URL=base) as second:
                made = {"name": "Late tide", "purpose": "Registered by the version before"}
                assert console.post(f"{HERE}/clients", json=made).status_code == 201
                assert token(second, form)
            migrating.migrate(engine, finish=True)
            assert fault_for_the_later() == ""
            wait_until(lambda: answers(f"{base}/ready", 503))
            assert "start the newer version" in patient.get(f"{base}/ready").json()["reason"]
            refused = console.get(f"{HERE}/clients")
            assert (refused.status_code, "being upgraded" in refused.json()["detail"]) == (503, True)
    started = operator.runs("serve")
    assert (started.returncode, f"this one speaks {later}" in started.stderr) == (1, True), started.stderr
    for command in (["migrate"], ["migrate", "--finish"], ["directories", "list"]):
        refused_too = operator.runs(*command)
        assert (refused_too.returncode, "start the newer version" in refused_too.stderr) == (1, True), command
    engine.dispose()


def test_a_migration_does_not_wait_for_a_table_for_long(
    operator: Operator, later: str, monkeypatch: pytest.MonkeyPatch
) -> None:
    opened(operator)
    monkeypatch.setattr(migrating, "_LOCK_WAIT", "300ms")
    engine = make_engine(operator.url)
    with psycopg.connect(operator.url) as holding:
        holding.execute("lock table client in access share mode")
        with pytest.raises(Busy, match="Nothing was changed"):
            migrating.migrate(engine, finish=False)
    migrating.migrate(engine, finish=False)
    with Session(engine) as session:
        assert (migrating.revision_of(session), migrating.unfinished(session)) == ("0101", True)
    engine.dispose()


TAKING = re.compile(r"op\.(drop_\w+|rename_\w+)|new_column_name|nullable=False(?!.*server_default)|type_=")


def takes_away(migration: str) -> bool:
    """Tell whether code of the version before could miss something, or be refused, after this migration."""
    upgrade = migration.split("def upgrade", 1)[1].split("def downgrade", 1)[0]
    inside_new_tables = re.sub(r"op\.create_table\(.*?\n    \)", "", upgrade, flags=re.DOTALL)
    return bool(TAKING.search(inside_new_tables))


def test_what_takes_something_away_says_after_which_code() -> None:
    assert takes_away(TAKES_AWAY)
    assert not takes_away(ADDS)
    folder = ROOT / "src" / "jamb" / "store" / "migrations" / "versions"
    texts = {path.stem[:4]: path.read_text() for path in folder.glob("0*.py")}
    assert any(takes_away(text) for text in texts.values()), "those from before the first release did"
    released = {name: text for name, text in texts.items() if name > migrating.FIRST_RELEASED}
    assert [name for name, text in released.items() if takes_away(text) and "\nAFTER = " not in text] == []
