"""How cost and storage grow with the clients of a directory: `python -m benchmarks growth`.

One database with a directory of each size (SIZES=1000,3000,10000). Tokens, reads and rounds are measured in turns
over the directories, so that a drift of the machine meets all; what a size stores is what the tables grew by.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path
from statistics import median

import httpx
import psycopg

from benchmarks import administration, auditing, figures
from benchmarks.load import burst_of
from jamb.actions.notices import notices

SIZES = tuple(int(size) for size in os.environ.get("SIZES", "1000,3000,10000").split(","))
ROUNDS, REQUESTS, TOKENS, CONNECTIONS = (1, 1, 20, 2) if os.environ.get("QUICK") else (3, 20, 500, 8)
READS: Mapping[str, str] = {
    "clients by name": "/clients?limit=50",
    "clients by a word": "/clients?limit=50&q=an",
    "clients, a deep page": "/clients?limit=50&cursor={cursor}",
    "dossier": "/clients/{client}",
    "findings": "/audit/findings",
    "posture": "/audit",
    "today": "/today",
    "who can do this": "/resources/{resource}/holders?operation={operation}",
    "escalation paths": "/audit/escalation-paths",
    "find anything": "/search?q=an",
    "ledger": "/ledger",
}
MOST_TABLES = 12
# In the estate two of three people may do anything. Of what all stewards hear, few hear in a directory of any size.
STEWARDS = 10
_FEW_STEWARDS = """
with held as (
    select role_assignment.id, row_number() over (order by assigned_at desc) as place
    from role_assignment join role on role.id = role_id join directory on directory.id = role.directory_id
    where directory.slug = %s and role.name = 'steward' and role_assignment.expires_at is null
)
update role_assignment set expires_at = now() from held where held.id = role_assignment.id and place > %s
"""
_STORED = """
select coalesce(parent.relname, own.relname), sum(pg_table_size(own.oid))::bigint, sum(pg_indexes_size(own.oid))::bigint
from pg_class own
left join pg_inherits on inhrelid = own.oid left join pg_class parent on parent.oid = inhparent
where own.relkind = 'r' and own.relnamespace = 'public'::regnamespace group by 1
"""


@dataclass
class Directory:
    """A directory of one size, and what was measured of it: each name with its figures, in milliseconds of CPU."""

    slug: str
    clients: int
    token: dict[str, str] = field(default_factory=dict)
    known: dict[str, str] = field(default_factory=dict)
    found: dict[str, list[float]] = field(default_factory=dict)
    # Bytes of rows and of indexes, by table.
    stored: dict[str, tuple[int, int]] = field(default_factory=dict)

    def note(self, name: str, milliseconds: float) -> None:
        self.found.setdefault(name, []).append(milliseconds)


def measure(url: str, home: Path, port: int, base_url: str, service: int, postmaster: int) -> Iterator[str]:
    """Yield the lines of the tables: CPU by size, then storage by table."""
    made = []
    for size in SIZES:
        before = _stored(url)
        slug = administration.estate(url, home, port, size, f"estate-{size}")
        after = _stored(url)
        here = Directory(slug, size)
        here.stored = {name: _more(before.get(name, (0, 0)), now) for name, now in after.items()}
        made.append(here)
    for here in made:
        with httpx.Client(base_url=base_url, timeout=300) as http:
            _know(http, here)
    for _ in range(ROUNDS):
        for here in made:
            _tokens(here, service, postmaster)
            _reads(here, base_url, service, postmaster)
    for here in made:
        _rounds(here, url, home, port)
    yield f"  {'milliseconds of CPU':<32}" + "".join(f"{here.clients:>11,}" for here in made)
    for name in made[0].found:
        values = [median(here.found[name]) for here in made]
        for here, value in zip(made, values, strict=True):
            figures.note("growth", f"{name}, {here.clients} clients, ms", value)
        yield f"  {name:<32}" + "".join(f"{value:11.2f}" for value in values)
    largest = made[-1]
    yield f"\n  {'bytes a client':<32}{'rows':>11}{'indexes':>11}   of {largest.clients:,}"
    tables = sorted(largest.stored.items(), key=lambda one: -sum(one[1]))[:MOST_TABLES]
    for name, (rows, indexes) in [*tables, ("all", _all(largest))]:
        figures.note("growth", f"{name}, bytes a client", (rows + indexes) / largest.clients)
        yield f"  {name:<32}{rows / largest.clients:11,.0f}{indexes / largest.clients:11,.0f}"
    for here in made:
        figures.note("growth", f"stored, {here.clients} clients, MB", sum(_all(here)) / 1e6)


def _know(http: httpx.Client, here: Directory) -> None:
    """Learn what is asked for, and give a client a secret of which the token is."""
    body = {"login": administration.LOGIN, "password": administration.PASSWORD, "directory": here.slug}
    http.headers["X-Jamb-CSRF"] = http.post("/api/v1/session", json=body).raise_for_status().json()["csrf"]
    root = f"/api/v1/directories/{here.slug}"
    here.known = administration.known_in(http, root)
    here.known["session"] = http.cookies["jamb_session"]
    for one in http.get(f"{root}/clients?limit=50").json()["items"]:
        held = http.get(f"{root}/clients/{one['id']}").json()["resources"]
        secret = http.post(f"{root}/clients/{one['id']}/secrets", json={"days": 1})
        if not held or not secret.is_success:
            continue
        here.token = {
            "grant_type": "client_credentials",
            "client_id": one["id"],
            "client_secret": secret.json()["secret"],
            "resource": held[0]["identifier"],
            "url": str(http.base_url.join(f"/d/{here.slug}/token")),
        }
        form = {name: value for name, value in here.token.items() if name != "url"}
        if http.post(here.token["url"], data=form).is_success:
            return
    raise SystemExit(f"no client of {here.slug} gets a token")


def _tokens(here: Directory, service: int, postmaster: int) -> None:
    form = {name: value for name, value in here.token.items() if name != "url"}
    done = burst_of(here.token["url"], form, TOKENS, CONNECTIONS, service, postmaster)
    here.note("a token by secret", 1000 * done.server_cpu)
    here.note("a token by secret, database", 1000 * done.database_cpu)


def _reads(here: Directory, base_url: str, service: int, postmaster: int) -> None:
    with httpx.Client(base_url=base_url, timeout=300, cookies={"jamb_session": here.known["session"]}) as http:
        for name, path in READS.items():
            address = f"/api/v1/directories/{here.slug}{path.format(**here.known)}"
            cost = administration.cost_of(http, address, service, postmaster, REQUESTS)
            here.note(name, cost.service)
            here.note(f"{name}, database", cost.database)


def _rounds(here: Directory, url: str, home: Path, port: int) -> None:
    """What the service does by itself: looks at all again, at what changed, and for what is to be told."""
    done = auditing.looked_at(url, home, port, here.slug, "anew")
    here.note("audit of all, a client", 1000 * done["cpu"] / here.clients)
    here.note("audit with nothing changed", 1000 * auditing.looked_at(url, home, port, here.slug, "changed")["cpu"])
    backend = administration.backend_of(url, home, port)
    with psycopg.connect(url) as connection:
        connection.execute(_FEW_STEWARDS, [here.slug, STEWARDS])
    # The first one writes what is new; the second is past the moment at which the credentials were made all at once.
    now = datetime.now(UTC)
    for name, later, whole in (
        ("", timedelta(), True),
        ("", timedelta(minutes=20), False),
        ("notices, nothing new", timedelta(minutes=21), False),
        ("notices, each hour", timedelta(minutes=22), True),
    ):
        cpu = time.process_time()
        notices.tell(backend, here.slug, now + later, whole=whole)
        if name:
            here.note(name, 1000 * (time.process_time() - cpu))
    backend.engine.dispose()


def _stored(url: str) -> dict[str, tuple[int, int]]:
    with psycopg.connect(url, autocommit=True) as connection:
        return {name: (rows, indexes) for name, rows, indexes in connection.execute(_STORED)}


def _more(before: tuple[int, int], after: tuple[int, int]) -> tuple[int, int]:
    return after[0] - before[0], after[1] - before[1]


def _all(here: Directory) -> tuple[int, int]:
    return sum(rows for rows, _ in here.stored.values()), sum(indexes for _, indexes in here.stored.values())
