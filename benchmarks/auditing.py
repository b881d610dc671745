"""The audit of a large made-up directory: all of it, and what changed, beside reading the same rows into Python.

`python -m benchmarks.auditing 10000 100000` measures these sizes alone, on a demo of its own. Each client has three
credentials, ten grants and a hundred days of use; a quarter has a planted fault, and what is found is held against
what was planted.
"""

from __future__ import annotations

import json
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import UTC, datetime
from pathlib import Path
from statistics import quantiles
from uuid import UUID

import psycopg
from sqlmodel import Session

from benchmarks import administration, figures
from jamb.actions.audit.evaluation import look_at_all, sweep
from jamb.actions.audit.findings import group_findings, list_findings
from jamb.actions.audit.posture import read_posture
from jamb.actions.base.act import act_in
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.lists import GroupBy
from jamb.demo.cluster import Cluster
from jamb.demo.estate import load_estate, plan_estate
from jamb.store.audit import findings
from jamb.store.audit.findings import Wanted
from jamb.store.connections.engine import make_engine

CHANGED, REQUESTS, SEED = 100, 200, 11
_CHANGE = """
update credential set expires_at = expires_at + interval '1 day' where id in (
    select k.id from credential k join client c on c.id = client_id
    where c.directory_id = %s and withdrawn_at is null and k.expires_at is not null order by c.id limit %s
)
"""
_OF_CLIENTS = "select t.* from {} t join client c on c.id = t.client_id where c.directory_id = %s"
_READ = ("client_owner", "ask", "consent", "credential", "usage", "object_use", "person_use")


def measure(url: str, home: Path, port: int, clients: int) -> list[str]:
    """Return the figures as lines; fails if what is found is not what was planted, or a shortcut finds other things."""
    backend = administration.backend_of(url, home, port)
    engine = backend.engine
    plan = plan_estate(clients, SEED)
    slug = f"estate-{clients}"
    started = time.perf_counter()
    load_estate(backend, url, slug, plan, datetime.now(UTC))
    loaded = time.perf_counter() - started
    planted = {(one.client_id, one.rule, one.subject) for one in plan.planted}
    del plan
    with Session(engine) as session:
        directory = find_directory(session, slug).id
    rows, floor = _floor(url, directory)
    first = looked_at(url, home, port, slug, "first")
    kept = _open(backend, directory)
    assert {one[:3] for one in kept} == planted, "what is found is not what was planted"
    again = looked_at(url, home, port, slug, "anew")
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute(_CHANGE.encode(), [directory, CHANGED])
    changed = looked_at(url, home, port, slug, "changed")
    after = _open(backend, directory)
    looked_at(url, home, port, slug, "anew")
    assert _open(backend, directory) == after, "looking at what changed finds something else than looking at all"
    engine.dispose()
    share = changed["seconds"] / again["seconds"]

    figures.note("audit", "looked at anew, floors", again["seconds"] / floor)
    figures.note("audit", "looked at anew, CPU ms a client", 1000 * again["cpu"] / clients)
    figures.note("audit", f"{CHANGED} changes, share of all", share)

    def times(one: dict[str, float]) -> str:
        return f"{one['seconds']:.1f} s, {one['seconds'] / floor:.2f} times the floor"

    cost = f"{1000 * again['cpu'] / clients:.2f} ms CPU a client"
    return [
        f"  {clients:,} clients, {rows:,} rows ({loaded:.0f} s to make), {len(planted):,} faults planted and found",
        f"  floor: these rows read into Python by the driver {floor:.1f} s",
        f"  all looked at, nothing kept before {times(first)}",
        f"  all looked at anew {times(again)}, {cost}",
        f"  {CHANGED} changes: {changed['looked_at']:.0f} clients in {changed['seconds']:.2f} s, {share:.2%} of all",
        f"  memory of the worker {again['megabytes']:.0f} MB, of which {again['before']:.0f} MB before it began",
        *_pages(url, slug, directory),
    ]


def _floor(url: str, directory: UUID) -> tuple[int, float]:
    """Read what the audit reads, row by row into Python values, and let go of it part by part."""
    started, rows = time.perf_counter(), 0
    with psycopg.connect(url) as connection:
        rows += len(connection.execute("select * from client where directory_id = %s", [directory]).fetchall())
        for table in _READ:
            with connection.cursor(name="floor") as cursor:
                cursor.itersize = 20_000
                cursor.execute(_OF_CLIENTS.format(table).encode(), [directory])
                rows += sum(1 for _ in cursor)
    return rows, time.perf_counter() - started


def looked_at(url: str, home: Path, port: int, slug: str, what: str) -> dict[str, float]:
    """Look at what there is to look at, in a process of its own, as the service's worker does; return what it took."""
    command = [sys.executable, "-m", "benchmarks.auditing", "--worker", url, str(home), str(port), slug, what]
    done = subprocess.run(command, capture_output=True, text=True, check=True)
    found: dict[str, float] = json.loads(done.stdout)
    return found


def _work(url: str, home: str, port: str, slug: str, what: str) -> None:
    backend = administration.backend_of(url, Path(home), int(port))
    if what == "anew":
        look_at_all(backend, slug)
    before = _most_memory()
    started, cpu = time.perf_counter(), time.process_time()
    swept = sweep(backend, slug, datetime.now(UTC))
    print(
        json.dumps(
            {
                "looked_at": swept.looked_at,
                "seconds": time.perf_counter() - started,
                "cpu": time.process_time() - cpu,
                "before": before,
                "megabytes": _most_memory(),
            }
        )
    )


def _most_memory() -> float:
    """Return the most memory that this process had, in MB: what it is given by its parent is not counted."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("VmHWM:"):
            return int(line.split()[1]) / 1024
    raise SystemExit("the kernel does not say")


def _pages(url: str, slug: str, directory: UUID) -> list[str]:
    """Ask what serves the page of findings: with filters, in groups, by a word."""
    backend, now = Backend(make_engine(url), None, ""), datetime.now(UTC)  # type: ignore[arg-type]
    with Session(backend.engine) as session:
        rows = findings.findings_of(session, directory)
    some = rows[len(rows) // 2][0]
    del rows
    top = (3, "", UUID(int=0))
    wanted: dict[str, Callable[[], object]] = {
        "worst first": lambda: list_findings(act_in(backend, slug, now), Wanted(), top, 50),
        "one rule": lambda: list_findings(act_in(backend, slug, now), Wanted(rule=some.rule), top, 50),
        "one client": lambda: list_findings(act_in(backend, slug, now), Wanted(client_id=some.client_id), top, 50),
        "a word": lambda: list_findings(act_in(backend, slug, now), Wanted(query="00042"), top, 50),
        "by rule": lambda: group_findings(act_in(backend, slug, now), GroupBy.RULE, Wanted(), 0, 50),
        "by owner": lambda: group_findings(act_in(backend, slug, now), GroupBy.OWNER, Wanted(), 0, 50),
        "posture": lambda: read_posture(act_in(backend, slug, now)),
    }
    lines = []
    for name, ask in wanted.items():
        taken = []
        for _ in range(REQUESTS if name != "posture" else 20):
            started = time.perf_counter()
            ask()
            taken.append(1000 * (time.perf_counter() - started))
        cuts = quantiles(taken, n=100)
        lines.append(f"  findings, {name:<12} p50 {cuts[49]:7.1f} ms   p99 {cuts[98]:7.1f} ms")
    return lines


def _open(backend: Backend, directory: object) -> set[tuple[str, str, str, int, str]]:
    with Session(backend.engine) as session:
        rows = findings.findings_of(session, directory)  # type: ignore[arg-type]
        return {(row.client_id, row.rule, row.subject, row.severity, row.title) for row, _ in rows}


def main() -> None:
    if sys.argv[1:2] == ["--worker"]:
        _work(*sys.argv[2:])
        return
    from benchmarks.demo import HOME, PORT, demo, fresh  # noqa: PLC0415 - the worker does without

    fresh()
    with demo():
        for size in map(int, sys.argv[1:] or ["10000"]):
            print("\n".join(measure(Cluster(HOME, PORT + 2).url, HOME, PORT, size)), flush=True)


if __name__ == "__main__":
    main()
