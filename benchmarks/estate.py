"""A directory with 1,000 permissions, 10,000 clients and 100,000 grants: decisions, explanations, who can do this.

The records are made up from a seed and copied into the demo's database; the API is asked over loopback, one request at
a time, in turns with a floor that makes one indexed read on the driver and answers it as JSON.
"""

from __future__ import annotations

import json
import random
import time
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from statistics import median
from typing import Any
from uuid import UUID, uuid4

import httpx
import psycopg

from benchmarks.load import cpu_of
from jamb.core.access import ClientStanding, HeldGrant, Request, decide
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach.details import reach_of

PERMISSIONS, OPERATIONS, CLIENTS, GRANTS_EACH = 1000, 2000, 10_000, 10
NOW = datetime(2026, 11, 23, 12, tzinfo=UTC)
ROUNDS, REQUESTS, DECISIONS = 5, 60, 200_000
NAME = "estate"


@dataclass(frozen=True)
class Estate:
    catalogue: Catalogue
    # client id: (permission, collection or "")
    grants: dict[str, list[tuple[str, str]]]


def made_up(seed: int = 7) -> Estate:
    """Return a catalogue in which a third of the permissions imply a smaller one, and who holds what."""
    dice = random.Random(seed)
    effects = [Effect.READ] * 6 + [Effect.WRITE] * 3 + [Effect.CONTROL]
    operations = [
        Operation(
            f"op{number}",
            f"Operation {number}",
            "GET",
            f"/op{number}" + ("/{thing}" if number % 2 else ""),
            dice.choice(effects),
            dice.choice(list(DataClass)),
        )
        for number in range(OPERATIONS)
    ]
    kinds = frozenset(AccessKind)
    permissions = [
        Permission(
            f"p{number}",
            f"Permission {number}",
            kinds,
            frozenset(f"op{one}" for one in dice.sample(range(OPERATIONS), 4)),
            frozenset({f"p{dice.randrange(number)}"}) if number and dice.random() < 1 / 3 else frozenset(),
        )
        for number in range(PERMISSIONS)
    ]
    catalogue = Catalogue.of(NAME, "Estate", "https://estate.example", operations, permissions, "thing")
    grants = {
        f"bench{number:015d}": [
            (f"p{one}", "north" if dice.random() < 0.2 else "") for one in dice.sample(range(PERMISSIONS), GRANTS_EACH)
        ]
        for number in range(CLIENTS)
    }
    return Estate(catalogue, grants)


def decisions(estate: Estate) -> dict[str, float]:
    """Return decisions a second of CPU from prepared state, and the microseconds to prepare one client."""
    dice = random.Random(11)
    since = NOW - timedelta(days=30)
    rows = {
        key: [(name, since, {"only": [place]} if place else None) for name, place in held]
        for key, held in estate.grants.items()
    }
    started = time.process_time()
    prepared = {key: ClientStanding(key, key, True, (), _held(held)) for key, held in rows.items()}
    preparing = (time.process_time() - started) / len(prepared)
    standings = list(prepared.values())
    wanted = [(dice.choice(standings), _asked(f"op{dice.randrange(OPERATIONS)}")) for _ in range(DECISIONS)]
    started = time.process_time()
    allowed = sum(decide(estate.catalogue, standing, request, NOW).allowed for standing, request in wanted)
    refused_rate = DECISIONS / (time.process_time() - started)
    granted = []
    for standing, _ in wanted[:DECISIONS]:
        permission = standing.grants[dice.randrange(GRANTS_EACH)].permission
        granted.append((standing, _asked(min(estate.catalogue.opened_by(permission)))))
    started = time.process_time()
    assert all(decide(estate.catalogue, standing, request, NOW).allowed for standing, request in granted)
    allowed_rate = DECISIONS / (time.process_time() - started)
    return {
        "decisions a second, mostly refused": refused_rate,
        "  share of them allowed": allowed / DECISIONS,
        "decisions a second, all allowed": allowed_rate,
        "microseconds to prepare one client": preparing * 1e6,
    }


def _held(rows: list[tuple[str, datetime, dict[str, list[str]] | None]]) -> tuple[HeldGrant, ...]:
    kind = AccessKind.APPLICATION
    return tuple(HeldGrant(name, kind, since, None, reach_of(reach)) for name, since, reach in rows)


def _asked(operation: str) -> Request:
    return Request(operation, AccessKind.APPLICATION)


def load(url: str, estate: Estate) -> None:
    """Copy the estate into the demo's first directory."""
    catalogue, long_ago = estate.catalogue, NOW - timedelta(days=40)
    with psycopg.connect(url) as connection:
        row = connection.execute("select id from directory where slug = 'quillhaven'").fetchone()
        assert row is not None
        directory: UUID = row[0]
        resource = uuid4()
        connection.execute(
            "insert into resource (id, directory_id, name, title, identifier, revision, object_name, questions, terms, "
            "address, collections_revision) "
            "values (%s, %s, %s, 'Estate', 'https://estate.example', 1, 'thing', '{}', '', '', 1)",
            [resource, directory, NAME],
        )
        connection.execute("insert into collection values (%s, 'north', 'North', '{n1,n2}')", [resource])
        _copy(
            connection,
            "operation (resource_id, name, title, method, path, effect, data_class)",
            (
                (resource, one.name, one.title, one.method, one.path, one.effect.value, one.data_class.value)
                for one in catalogue.operations.values()
            ),
        )
        _copy(
            connection,
            "permission (resource_id, name, title, kinds, unlocks, implies, consent_by, text, person_text)",
            (
                (
                    resource,
                    one.name,
                    one.title,
                    sorted(one.kinds),
                    sorted(one.unlocks),
                    sorted(one.implies),
                    "administrator",
                    "",
                    "",
                )
                for one in catalogue.permissions.values()
            ),
        )
        _copy(
            connection,
            "client (id, directory_id, name, folded_name, purpose, kind, state, builtin, registered_at, registered_by, "
            "redirect_uris, publisher)",
            (
                (key, directory, key, key, "Made up", "service", "live", False, long_ago, "bench", [], "")
                for key in estate.grants
            ),
        )
        _copy(
            connection,
            "consent (id, client_id, resource_id, permission, kind, granted_at, granted_by, reach, by_person)",
            (
                (uuid4(), key, resource, name, "application", long_ago, "bench", _reach(place), False)
                for key, held in estate.grants.items()
                for name, place in held
            ),
        )
        connection.commit()
        connection.autocommit = True
        connection.execute("analyze")


def _reach(place: str) -> str | None:
    return json.dumps({"only": [place]}) if place else None


def _copy(connection: psycopg.Connection[Any], into: str, rows: Iterable[tuple[Any, ...]]) -> None:
    with connection.cursor() as cursor, cursor.copy(f"copy {into} from stdin".encode()) as copy:
        for row in rows:
            copy.write_row(row)


def over_the_api(base_url: str, floor_url: str, headers: dict[str, str], service: int, floor: int) -> list[str]:
    """Return lines: CPU per request of each call, and as a multiple of the floor, round by round."""
    here = f"{base_url}/api/v1/directories/quillhaven"
    client = f"bench{4242:015d}"
    question = {"resource": NAME, "operation": "op77", "object": "n1"}
    calls = {
        "floor: one indexed read": ("GET", f"{floor_url}/read/{client}", None, floor),
        "explanation": ("POST", f"{here}/clients/{client}/explanation", question, service),
        "who can do this": ("GET", f"{here}/resources/{NAME}/holders?operation=op77&object=n1", None, service),
        "reach sheet": ("GET", f"{here}/clients/{client}/reach?resource={NAME}", None, service),
    }
    cost: dict[str, list[float]] = {name: [] for name in calls}
    wall: dict[str, list[float]] = {name: [] for name in calls}
    size = 0
    with httpx.Client(headers=headers, timeout=30) as http:
        for turn in range(ROUNDS + 1):
            for name, (method, url, body, pid) in calls.items():
                requests = REQUESTS * (10 if name.startswith("floor") else 1)
                cpu, started = cpu_of(pid), time.perf_counter()
                for _ in range(requests):
                    answer = http.request(method, url, json=body)
                    answer.raise_for_status()
                if turn:  # the first one warms up
                    cost[name].append((cpu_of(pid) - cpu) / requests)
                    wall[name].append((time.perf_counter() - started) / requests)
                if name == "who can do this":
                    size = len(answer.json()["clients"])
    lines = []
    for name in calls:
        ratios = [one / base for one, base in zip(cost[name], cost["floor: one indexed read"], strict=True)]
        lines.append(
            f"  {name:<26}{1000 * median(cost[name]):8.2f}{1000 * median(wall[name]):10.2f}"
            f"{median(ratios):9.1f}   {min(ratios):.1f} to {max(ratios):.1f}"
        )
    return [
        f"  {'':<26}{'CPU ms':>8}{'wall ms':>10}{'x floor':>9}   round by round",
        *lines,
        f"  who can do this answered {size} clients",
    ]
