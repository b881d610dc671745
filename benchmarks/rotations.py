"""Rotations in bulk: planned, opened by a command that is killed again and again, and counted after each kill."""

from __future__ import annotations

import json
import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import psycopg

from benchmarks import figures

CREDENTIALS = int(os.environ.get("BENCH_ROTATIONS", "2000"))
KILLS = 8
_LOAD = """
insert into client
    (id, directory_id, name, folded_name, purpose, kind, state, builtin, registered_at, registered_by,
     redirect_uris, publisher)
    select 'rotated' || n, d.id, 'Rotated ' || n, 'rotated ' || n, 'Measured', 'service', 'live', false, now(),
           'bench', '{}', ''
    from directory d, generate_series(%(first)s::int, %(last)s::int) n where slug = 'quillhaven';
insert into credential
    (id, client_id, kind, hint, label, issuer, subject, keys_uri, digest, issued_at, issued_by, expires_at)
    select md5('rotated' || n)::uuid, 'rotated' || n, 'secret', 'jamb_s1_' || n, '', '', '', '',
           sha256(('rotated' || n)::bytea), now() - interval '80 days', 'bench', now() + interval '3 days'
    from generate_series(%(first)s::int, %(last)s::int) n;
"""
# Whatever happened: each client has one secret that works or two, and each rotation is the only open one.
_WHOLE = """
select count(*) filter (where valid not between 1 and 2), count(*) filter (where valid = 2), max(rotations)
from (
    select c.client_id, count(*) filter (where withdrawn_at is null and expires_at > now()) valid,
           (select count(*) from rotation r where r.client_id = c.client_id and r.ended is null) rotations
    from credential c where c.client_id like 'rotated%%' group by c.client_id
) each
"""


def measure(url: str, base_url: str, client_id: str, secret: str) -> list[str]:
    """Return the figures as lines; fails if after any kill a client has no secret that works, or three."""
    _load(url, 1)
    with tempfile.TemporaryDirectory() as folder:
        file = Path(folder) / "secret"
        file.write_text(secret)
        environment = {
            **os.environ,
            "JAMB_URL": base_url,
            "JAMB_DIRECTORY": "quillhaven",
            "JAMB_CLIENT_ID": client_id,
            "JAMB_CLIENT_SECRET_FILE": str(file),
        }
        jamb = [str(Path(sys.executable).parent / "jamb"), "rotate"]
        started = time.perf_counter()
        planned = subprocess.run(
            [*jamb, "due", "--within", "3", "-o", "json"], env=environment, check=True, capture_output=True
        )
        plan = time.perf_counter() - started
        assert len(json.loads(planned.stdout)) >= CREDENTIALS
        command = [*jamb, "open-all", "--within", "3", "--save", f"{folder}/out", "--yes"]
        started = time.perf_counter()
        subprocess.run(command, env=environment, check=True, stdout=subprocess.DEVNULL)
        rate = CREDENTIALS / (time.perf_counter() - started)
        _load(url, CREDENTIALS + 1)
        dice, started = random.Random(5), time.perf_counter()
        for _ in range(KILLS):
            process = subprocess.Popen(command, env=environment, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(CREDENTIALS / 1000 * dice.uniform(0.5, 4))
            process.send_signal(signal.SIGKILL)
            process.wait()
            _whole(url)
        subprocess.run(command, env=environment, check=True, stdout=subprocess.DEVNULL)
        spent = time.perf_counter() - started
        doubled = _whole(url)
        files = len(list((Path(folder) / "out").glob("rotated-*.after")))
    assert doubled == files == 2 * CREDENTIALS, (doubled, files)
    figures.note("rotations", "a second", rate)
    return [
        f"  {CREDENTIALS:,} planned by the command line in {plan:.1f} s",
        f"  opened by one command: {rate:.0f} a second, its start, its plan and the files included",
        f"  as many more opened in {spent:.0f} s, {KILLS} kills and their new starts included",
        "  after each kill: no client without a secret that works, none with three, one open rotation each at most",
    ]


def _load(url: str, first: int) -> None:
    with psycopg.connect(url, autocommit=True) as connection:
        for statement in _LOAD.strip().split(";\n"):
            connection.execute(statement.rstrip(";"), {"first": first, "last": first + CREDENTIALS - 1})  # type: ignore[arg-type]
        connection.execute("analyze")


def _whole(url: str) -> int:
    """Return how many clients have an old and a new secret."""
    with psycopg.connect(url) as connection:
        broken, doubled, most = connection.execute(_WHOLE).fetchone() or (1, 0, 0)
    assert (broken, most <= 1) == (0, True), (broken, most)
    return int(doubled)
