"""Notices for a large directory: two workers find what is to be told, and two carry it; nothing twice."""

from __future__ import annotations

import asyncio
import os
import subprocess
import sys
import time
from datetime import UTC, datetime
from pathlib import Path

import httpx
import psycopg

from benchmarks import figures

CREDENTIALS, CLIENTS, PEOPLE = 50_000, 10_000, 1_000
SLUG = "bench-notices"
_LOAD = """
insert into directory (id, slug, name, domain, policy, created_at)
    values (md5('bench')::uuid, 'bench-notices', 'Bench', 'bench.example', '{}', now());
insert into person (id, directory_id, login, name, active, created_at)
    select md5('person' || n)::uuid, md5('bench')::uuid, 'p' || n || '@bench.example', 'Person ' || n, true, now()
    from generate_series(1, %(people)s) n;
insert into client
    (id, directory_id, name, folded_name, purpose, kind, state, builtin, registered_at, registered_by,
     redirect_uris, publisher)
    select 'bench' || n, md5('bench')::uuid, 'Bench ' || n, 'bench ' || n, 'Measured', 'service', 'live', false, now(),
           'bench', '{}', ''
    from generate_series(1, %(clients)s) n;
insert into client_owner (client_id, person_id, level)
    select 'bench' || n, md5('person' || (1 + n %% %(people)s))::uuid, 'full' from generate_series(1, %(clients)s) n;
insert into credential
    (id, client_id, directory_id, kind, hint, label, issuer, subject, keys_uri, issued_at, issued_by, expires_at)
    select md5('credential' || n)::uuid, 'bench' || (1 + n %% %(clients)s), md5('bench')::uuid, 'secret',
           'jamb_s1_' || n, '', '', '', '',
           now() - interval '80 days', 'bench', now() + (1 + n %% 13) * interval '1 day'
    from generate_series(1, %(credentials)s) n;
"""


def load(url: str) -> None:
    with psycopg.connect(url, autocommit=True) as connection:
        for statement in _LOAD.split(";\n"):
            if statement.strip():
                connection.execute(
                    statement,
                    {"people": PEOPLE, "clients": CLIENTS, "credentials": CREDENTIALS},  # type: ignore[arg-type]
                )
        connection.execute("analyze")


def measure(url: str, home: Path, port: int) -> list[str]:
    """Return the figures as lines; fails if anything was told twice or not at all."""
    load(url)
    floor = time.perf_counter()
    with psycopg.connect(url) as connection:
        rows = connection.execute(
            "select credential.id, client.name, hint, expires_at, person_id from credential "
            "join client on client.id = client_id join client_owner o on o.client_id = client.id "
            "where client.directory_id = md5('bench')::uuid"
        ).fetchall()
    read = time.perf_counter() - floor
    assert len(rows) == CREDENTIALS
    started = time.perf_counter()
    _workers("tell", home, port, url)
    told = time.perf_counter() - started
    started = time.perf_counter()
    _workers("carry", home, port, url)
    carried = time.perf_counter() - started
    with psycopg.connect(url) as connection:
        noted, distinct, mails, unsent = connection.execute(
            "select (select count(*) from notice where directory_id = d), "
            "(select count(distinct (person_id, key)) from notice where directory_id = d), "
            "(select count(*) from mail where directory_id = d), "
            "(select count(*) from mail where directory_id = d and sent_at is null) "
            "from (select md5('bench')::uuid d) x"
        ).fetchone() or (0, 0, 0, 0)
    found = httpx.get(f"http://127.0.0.1:{port + 1}/mailbox/mails").json()
    ids = [one["message_id"] for one in found if "@bench.example>" in one["message_id"]]
    assert (noted, distinct, mails, unsent) == (CREDENTIALS, CREDENTIALS, PEOPLE, 0), (
        noted,
        distinct,
        mails,
        unsent,
    )
    assert len(ids) == len(set(ids)) == PEOPLE
    figures.note("notices", "noted, floors", told / read)
    return [
        f"  floor: the same rows read by the driver      {read:8.2f} s",
        f"  {noted:,} notices noted by two workers        {told:8.2f} s   ({told / read:.0f} times the floor)",
        f"  {mails:,} mails sent by two workers          {carried:8.2f} s   none twice, none left",
    ]


def _workers(what: str, home: Path, port: int, url: str) -> None:
    environment = {
        **os.environ,
        "JAMB_HOME": str(home),
        "JAMB_PORT": str(port),
        "JAMB_DATABASE_URL": url,
        "JAMB_SMTP_URL": f"smtp://127.0.0.1:{port + 3}",
        "JAMB_LOG_LEVEL": "error",
    }
    started = [subprocess.Popen([sys.executable, "-m", "benchmarks.notices", what], env=environment) for _ in range(2)]
    assert [one.wait() for one in started] == [0, 0]


def main() -> None:
    """One worker: `tell` or `carry`, on the service of the environment."""
    from jamb.actions.notices import notices  # noqa: PLC0415
    from jamb.service.config.settings import read_settings  # noqa: PLC0415
    from jamb.service.runtime import open_runtime  # noqa: PLC0415
    from jamb.service.work.mails import Mailer, send_mails  # noqa: PLC0415

    async def work() -> None:
        settings = read_settings()
        async with open_runtime(settings) as office:
            if sys.argv[1] == "tell":
                notices.tell(office.backend, SLUG, datetime.now(UTC))
                return
            while await send_mails(office.backend, Mailer.of(settings)):
                pass

    asyncio.run(work())


if __name__ == "__main__":
    main()
