"""What an administrator's reads cost in a large directory, beside a bare route with one indexed read.

`python -m benchmarks administration` alone, on a demo of its own; CLIENTS=10000 says how large the directory is. Each
read is made by a console session, one after the other; CPU of the service and of the database, for one request.
"""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from statistics import median

import httpx
import psycopg
from pydantic import SecretStr

from benchmarks import figures
from benchmarks.load import children_cpu, cpu_of
from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.backend import Backend
from jamb.demo.estate import load_estate, plan_estate
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings
from jamb.store.connections.engine import make_engine

SEED = 13
# QUICK=1: that it runs, and no figure to keep.
ROUNDS, REQUESTS = (1, 1) if os.environ.get("QUICK") else (3, 20)
# A read that takes so long is not made more often than this.
LONGEST_SECONDS, LEAST = 5.0, 2
LOGIN, PASSWORD = "bench.steward@estate.example", "a bridge over the weir 7"
# What each may cost at most, in floors; None: no goal is set.
READS: Mapping[str, tuple[str, int | None]] = {
    "whoami": ("/whoami", 8),
    "requests that wait": ("/requests", 8),
    "policy": ("", 8),
    "clients by name": ("/clients?limit=50", 25),
    "clients by registration": ("/clients?limit=50&sort=registered", 25),
    "clients by expiry": ("/clients?limit=50&sort=expiry", 25),
    "clients by use": ("/clients?limit=50&sort=used", 25),
    "clients by a word": ("/clients?limit=50&q=an", 25),
    "clients that expire": ("/clients?limit=50&attention=expiring", 25),
    "clients, a deep page": ("/clients?limit=50&cursor={cursor}", 25),
    "dossier": ("/clients/{client}", 25),
    "findings": ("/audit/findings", 15),
    "findings by rule": ("/audit/groups?by=rule", 15),
    "posture": ("/audit", 15),
    "today": ("/today", 15),
    "who can do this": ("/resources/{resource}/holders?operation={operation}", 40),
    "escalation paths": ("/audit/escalation-paths", 60),
    "find anything": ("/search?q=an", None),
    "roles": ("/roles", None),
    "people": ("/people", None),
    "ledger": ("/ledger", None),
}


@dataclass(frozen=True)
class Cost:
    """Of one request, in milliseconds: CPU of the service and of the database, and from asking to the answer."""

    service: float
    database: float
    wall: float


# The steward is alone: no other could agree to what they gain by a secret that they see.
_ALONE = """
update directory set policy = policy || '{"two_people_weight": 100000, "two_approvers_weight": 100000}' where slug = %s
"""


def estate(url: str, home: Path, port: int, clients: int, slug: str = f"estate-{SEED}") -> str:
    """Make the directory, look at all of it, and give it a steward; return its short name."""
    backend = backend_of(url, home, port)
    load_estate(backend, url, slug, plan_estate(clients, SEED), datetime.now(UTC))
    command = [str(Path(sys.executable).with_name("jamb-service")), "directories", "steward", slug]
    environment = {**os.environ, "JAMB_HOME": str(home), "JAMB_PORT": str(port), "JAMB_DATABASE_URL": url}
    told = subprocess.run(
        [*command, "--steward", LOGIN, "--name", "Bench Steward"],
        env=environment,
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    address, _, key = told.split()[-1].partition("#")
    base, link = address.split("/sign-in-link/")
    sent = {"key": key, "password": PASSWORD}
    httpx.post(f"{base}/api/v1/sign-in-links/{link}/password", json=sent, timeout=60).raise_for_status()
    with psycopg.connect(url) as connection:
        connection.execute(_ALONE, [slug])
    # A new steward is news to the audit, too.
    sweep(backend, slug, datetime.now(UTC))
    backend.engine.dispose()
    return slug


def backend_of(url: str, home: Path, port: int) -> Backend:
    """Return what works on the measured database in this process."""
    settings = Settings(home=home, port=port, database_url=SecretStr(url))
    engine = make_engine(settings.database())
    return Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url)


def known_in(http: httpx.Client, root: str) -> dict[str, str]:
    """Return what the reads of a directory name: a deep page, a client, a resource and an operation of it."""
    page = http.get(f"{root}/clients?limit=50").raise_for_status().json()
    resource = next(one for one in http.get(f"{root}/resources").json()["items"] if one["name"] != "jamb")["name"]
    operation = http.get(f"{root}/resources/{resource}").json()["operations"][0]["name"]
    client = page["items"][len(page["items"]) // 2]["id"]
    return {"cursor": page["next"], "client": client, "resource": resource, "operation": operation}


def measure(base_url: str, slug: str, service: int, floor_url: str, floor: int, postmaster: int) -> Iterator[str]:
    """Yield a line a read, each beside the floor of its own round."""
    with httpx.Client(base_url=base_url, timeout=300) as http, httpx.Client(base_url=floor_url) as bare:
        http.post("/api/v1/session", json={"login": LOGIN, "password": PASSWORD}).raise_for_status()
        root = f"/api/v1/directories/{slug}"
        known = known_in(http, root)
        client = known["client"]
        yield f"  {'':<26}{'CPU ms':>9}{'floors':>9}{'span':>13}{'goal':>7}{'database ms':>13}{'wall ms':>10}"
        for name, (path, goal) in READS.items():
            rounds = []
            for _ in range(ROUNDS):
                base = cost_of(bare, f"/read/{client}", floor, postmaster, 30 * REQUESTS)
                rounds.append((base, cost_of(http, root + path.format(**known), service, postmaster, REQUESTS)))
            ratios = sorted(one.service / max(base.service, 0.01) for base, one in rounds)
            values = [median(getattr(one, part) for _, one in rounds) for part in ("service", "database", "wall")]
            figures.note("administration", f"{name}, floors", median(ratios))
            figures.note("administration", f"{name}, database ms", values[1])
            yield (
                f"  {name:<26}{values[0]:9.1f}{median(ratios):9.0f}{f'{ratios[0]:.0f} to {ratios[-1]:.0f}':>13}"
                f"{goal or '':>7}{values[1]:13.1f}{values[2]:10.1f}"
            )


def cost_of(http: httpx.Client, path: str, pid: int, postmaster: int, requests: int) -> Cost:
    """Return what a read costs, one after the other: fewer of those that take long."""
    http.get(path).raise_for_status()
    service, database, started, made = cpu_of(pid), children_cpu(postmaster), time.perf_counter(), 0
    while made < requests and (made < LEAST or time.perf_counter() - started < LONGEST_SECONDS):
        http.get(path).raise_for_status()
        made += 1
    wall = time.perf_counter() - started
    spent = cpu_of(pid) - service, children_cpu(postmaster) - database, wall
    return Cost(*(1000 * one / made for one in spent))
