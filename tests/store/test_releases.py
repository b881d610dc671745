"""The schema of each release, as it was left with a little data: this version brings it forward and goes on with it.

A release is kept by `python -m tests.store.release VERSION`.
"""

from __future__ import annotations

import gzip
import json
import subprocess
from pathlib import Path

import psycopg
import pytest
from alembic.autogenerate import compare_metadata
from alembic.migration import MigrationContext

from jamb.demo.cluster import server_programs
from jamb.store.base.partitions import is_part
from jamb.store.base.tables import METADATA
from jamb.store.connections.engine import make_engine
from tests.operating import HERE, operating, steward_of, token
from tests.store.release import RELEASES, SEALING_KEY
from tests.world import World

KEPT = sorted(path.name.removesuffix(".sql.gz") for path in RELEASES.glob("*.sql.gz"))


def test_the_first_release_is_kept() -> None:
    assert KEPT[0] == "0.1.0"


@pytest.mark.parametrize("release", KEPT)
def test_what_a_release_left_is_brought_forward_and_goes_on(world: World, tmp_path: Path, release: str) -> None:
    kept = json.loads((RELEASES / f"{release}.json").read_text())
    dump = gzip.decompress((RELEASES / f"{release}.sql.gz").read_bytes())
    with operating(world, tmp_path, world.port + 19) as operator:
        operator.settings = {"JAMB_SEALING_KEY": SEALING_KEY, "JAMB_PUBLIC_URL": kept["public_url"]}
        psql = [server_programs() / "psql", "-q", "-v", "ON_ERROR_STOP=1", operator.url]
        loaded = subprocess.run(psql, input=dump, capture_output=True, check=False)
        assert loaded.returncode == 0, loaded.stderr
        migrated = operator.runs("migrate", "--finish")
        assert migrated.returncode == 0, migrated.stderr
        engine = make_engine(operator.url)
        with engine.connect() as connection:

            def ours(_item: object, name: str | None, kind: str, *_: object) -> bool:
                return kind != "table" or not is_part(name)

            context = MigrationContext.configure(connection, opts={"compare_type": True, "include_object": ours})
            assert compare_metadata(context, METADATA) == []
        engine.dispose()
        with psycopg.connect(operator.url, autocommit=True) as database:
            # It was left some time ago.
            database.execute("update credential set expires_at = now() + interval '9 days'")
        verified = operator.runs("verify")
        assert verified.returncode == 0, verified.stdout
        with operator.serving() as base:
            # As whoever asked tokens before the upgrade, by the address that is on record.
            form = kept["form"] | {"resource": f"{kept['public_url']}{HERE}"}
            assert token(base, form)
            with steward_of(base) as console:
                names = {row["name"] for row in console.get(f"{HERE}/clients").raise_for_status().json()["items"]}
                assert {"Sluice log", "Old gauge"} <= names
                made = console.post(f"{HERE}/clients", json={"name": "New gauge", "purpose": "Comes after"})
                assert made.status_code == 201
                assert console.get(f"{HERE}/audit/findings").status_code == 200
