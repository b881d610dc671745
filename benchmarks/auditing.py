"""The audit of a large directory: all of it, and what changed, beside reading the same rows into Python."""

from __future__ import annotations

import resource
import time
from datetime import UTC, datetime
from pathlib import Path

import psycopg
from pydantic import SecretStr
from sqlmodel import Session

from jamb.actions.premises import Premises, find_directory
from jamb.actions.sweep import look_at_all, sweep
from jamb.service.settings import Settings
from jamb.store import findings
from jamb.store.engine import make_engine

CHANGED = 100
# Three credentials for each client of the estate, and a hundred days of use of one operation for half of them.
_LOAD = """
insert into credential
    (id, client_id, kind, hint, label, issuer, subject, keys_uri, digest, issued_at, issued_by, expires_at,
     last_used_at)
    select gen_random_uuid(), c.id, 'secret', 'jamb_s1_' || n, '', '', '', '', sha256((c.id || n)::bytea),
           now() - n * interval '40 days', 'bench', now() + (n * 50 - 45) * interval '1 day',
           case when n < 3 then now() - n * interval '1 day' end
    from client c, generate_series(1, 3) n where purpose = 'Made up';
insert into usage (client_id, resource_id, operation, kind, day, calls, last_at)
    select c.id, r.id, p.unlocks[1], 'application', current_date - n, 5, now() - n * interval '1 day'
    from (select id, row_number() over (order by id) place from client where purpose = 'Made up') c
    join lateral (
        select resource_id, permission from consent where client_id = c.id order by permission limit 1
    ) g on true
    join resource r on r.id = g.resource_id
    join permission p on p.resource_id = r.id and p.name = g.permission, generate_series(0, 99) n
    where c.place % 2 = 0;
analyze
"""
_CHANGE = """
update credential set expires_at = expires_at + interval '1 day' where id in (
    select k.id from credential k join client c on c.id = client_id where purpose = 'Made up' limit %s
)
"""
_ROWS = (
    "select * from client where directory_id = %s",
    "select o.* from client_owner o join client c on c.id = client_id where directory_id = %s",
    "select a.* from ask a join client c on c.id = client_id where directory_id = %s",
    "select g.* from consent g join client c on c.id = client_id where directory_id = %s",
    "select k.* from credential k join client c on c.id = client_id where directory_id = %s",
    "select u.* from usage u join client c on c.id = client_id where directory_id = %s",
)


def measure(url: str, home: Path, port: int) -> list[str]:
    """Return the figures as lines; fails if looking at what changed finds something else than looking at all."""
    with psycopg.connect(url, autocommit=True) as connection:
        for statement in _LOAD.split(";\n"):
            connection.execute(statement.encode())
    settings = Settings(home=home, port=port, database_url=SecretStr(url))
    engine = make_engine(settings.database())
    premises = Premises(engine, settings.sealer(), settings.base_url)
    with Session(engine) as session:
        directory = find_directory(session, "quillhaven").id
    started = time.perf_counter()
    with psycopg.connect(url) as connection:
        rows = sum(len(connection.execute(one.encode(), [directory]).fetchall()) for one in _ROWS)
    floor = time.perf_counter() - started
    before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    look_at_all(premises, "quillhaven")
    first = _timed(premises)
    look_at_all(premises, "quillhaven")
    again = _timed(premises)
    grown = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(_CHANGE, [CHANGED])
    changed = _timed(premises)
    kept = _open(premises, directory)
    look_at_all(premises, "quillhaven")
    _timed(premises)
    assert _open(premises, directory) == kept
    engine.dispose()
    share = changed[1] / again[1]
    return [
        f"  floor: {rows:,} rows read by the driver {floor:.2f} s",
        f"  {first[0]:,} clients, nothing kept before: {first[1]:.2f} s ({first[1] / floor:.1f} times the floor)",
        f"  all of them again, {len(kept):,} findings kept: {again[1]:.2f} s ({again[1] / floor:.1f} times)",
        f"  after {CHANGED} changes: {changed[0]} clients in {changed[1]:.2f} s ({share:.1%} of all)",
        f"  memory on top of the start: {grown:.0f} MB, in steps of 500 clients",
    ]


def _timed(premises: Premises) -> tuple[int, float]:
    started = time.perf_counter()
    swept = sweep(premises, "quillhaven", datetime.now(UTC))
    return swept.looked_at, time.perf_counter() - started


def _open(premises: Premises, directory: object) -> set[tuple[str, str, str, int, str]]:
    with Session(premises.engine) as session:
        rows = findings.findings_of(session, directory)  # type: ignore[arg-type]
        return {(row.client_id, row.rule, row.subject, row.severity, row.title) for row, _ in rows}
