"""Load the scenario, through the same actions an administrator uses, at moments in the past."""

from __future__ import annotations

import json
import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any
from uuid import uuid4

from sqlmodel import Session, col, select, update

from jamb.actions import clients, consent, credentials, directories, people, resources
from jamb.actions.premises import Directory, Premises
from jamb.core import own_api
from jamb.core.attempts import Outcome
from jamb.core.clients import ClientKind
from jamb.core.credentials import digest_secret, hint_of, secret_from
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.policy import DirectoryPolicy
from jamb.demo.cluster import write_private
from jamb.demo.scenario import CLIENTS, DIRECTORIES, RESOURCES, DemoClient, DemoDirectory, DemoSecret
from jamb.store import usage
from jamb.store.clients import AskRow
from jamb.store.credentials import CredentialRow
from jamb.store.directories import by_slug
from jamb.store.resources import ResourceRow
from jamb.store.work import Actor, observation, unit_of_work

_OPENED = timedelta(days=1000)
_SETUP = Actor("service", "demo", "Demo set-up", "Demo set-up")
_WORDS = tuple(
    "anchor bollard capstan davit ebb fender gangway halyard jetty keel lantern mooring neap oar pontoon quay rudder "  # noqa: SIM905 - read as a list of words
    "sextant tiller vane wharf yawl".split()
)
AUTOMATION = "Registration pipeline"
AUTOMATION_PERMISSIONS = ("registry.write", "consent.decide", "credentials.manage")


@dataclass(frozen=True)
class Handed:
    """What the scenario hands to people and programs: never kept in the database."""

    demo: dict[str, Any]
    guards: dict[str, Any]


def scenario_present(premises: Premises) -> bool:
    with Session(premises.engine) as session:
        return by_slug(session, DIRECTORIES[0].slug) is not None


def load(premises: Premises, home: Path, berths_url: str, now: datetime) -> None:
    """Load everything; write demo.json (for people, tests, benchmarks) and guards.json, both readable by us only."""
    handed = Handed({"base_url": premises.base_url, "directories": {}, "people": [], "apis": {}}, {})
    opened = {place.slug: _open(premises, place, handed, now - _OPENED) for place in DIRECTORIES}
    port = opened["quillhaven"]
    actors = {
        person.login.partition("@")[0]: Actor("person", str(person.id), person.name, "Jamb console")
        for person in people.list_people(premises, port.slug)
    }
    _publish(premises, port, handed, now)
    for demo in CLIENTS:
        _add_client(premises, port, demo, actors, now)
    _add_automation(premises, port, handed, now)
    _add_ferry_client(premises, opened["brisling"], now)
    handed.demo["apis"]["berths"] = {"base_url": berths_url, "resource": RESOURCES[0].identifier}
    write_private(home / "guards.json", json.dumps(handed.guards, indent=2))
    write_private(home / "demo.json", json.dumps(handed.demo, indent=2) + "\n")


def _open(premises: Premises, place: DemoDirectory, handed: Handed, at: datetime) -> Directory:
    directory = directories.open_directory(
        premises, place.slug, place.name, place.domain, DirectoryPolicy(), _SETUP, at
    )
    handed.demo["directories"][place.slug] = {
        "name": place.name,
        "issuer": premises.issuer(place.slug),
        "resource": premises.own_identifier(place.slug),
    }
    for person in place.people:
        login = f"{person.login}@{place.domain}"
        password = _password() if person.signs_in else None
        people.add_person(premises, directory, login, person.name, password, person.roles, _SETUP, at)
        if password:
            handed.demo["people"].append(
                {
                    "name": person.name,
                    "login": login,
                    "password": password,
                    "roles": list(person.roles),
                    "directory": place.slug,
                }
            )
    return directory


def _publish(premises: Premises, port: Directory, handed: Handed, now: datetime) -> None:
    """Publish the resources, the Berths one with a client of its own for the guard that reports its use."""
    at = now - timedelta(days=950)
    for catalogue in RESOURCES:
        guard_client = None
        if catalogue.name == "berths":
            guard_client = _berths_guard(premises, port, handed, catalogue, at, now)
        resources.publish(premises, port, catalogue, _SETUP, at, guard_client_id=guard_client)


def _berths_guard(
    premises: Premises, port: Directory, handed: Handed, catalogue: Catalogue, at: datetime, now: datetime
) -> str:
    made = clients.register(
        premises,
        port,
        "Berths API",
        "The Berths API itself: reports which operations were used",
        ClientKind.SERVICE,
        [f"oskar.pell@{port.domain}"],
        _SETUP,
        at,
    )
    consent.ask(
        premises, port, made.id, own_api.NAME, ["usage.report"], AccessKind.APPLICATION, "Usage reports", _SETUP, at
    )
    consent.grant(premises, port, made.id, None, _SETUP, at)
    issued = credentials.issue_secret(premises, port, made.id, 180, _SETUP, now - timedelta(days=2))
    handed.guards["berths"] = {
        "issuer": premises.issuer(port.slug),
        "audience": catalogue.identifier,
        "report_url": f"{premises.own_identifier(port.slug)}/usage",
        "report_audience": premises.own_identifier(port.slug),
        "client_id": made.id,
        "client_secret": issued.sheets[0].secret,
    }
    _add_uses(premises, made.id, own_api.NAME, "usage.report", 900, 1, now, port)
    return made.id


def _add_client(premises: Premises, port: Directory, demo: DemoClient, actors: dict[str, Actor], now: datetime) -> None:
    registrar, approver, custodian = actors["maren.oduya"], actors["tobias.lindqvist"], actors["hanneke.brouwer"]
    owners = [f"{owner}@{port.domain}" for owner in demo.owners]
    at = now - timedelta(days=demo.registered)
    made = clients.register(premises, port, demo.name, demo.purpose, ClientKind.SERVICE, owners, registrar, at)
    for what, days in demo.asks:
        resource, permission = what.split()
        asked_at = now - timedelta(days=days) + timedelta(minutes=9)
        kind = AccessKind.APPLICATION
        consent.ask(premises, port, made.id, resource, [permission], kind, demo.purpose, registrar, asked_at)
    _consent_chosen(premises, port, made.id, demo.grants, approver, now)
    for secret in demo.secrets:
        _add_secret(premises, port, made.id, secret, custodian, now)
    for use in demo.uses:
        _add_uses(premises, made.id, use.resource, use.operation, use.calls, use.every, now, port)
    _add_failures(premises, port, made.id, demo, now)


def _consent_chosen(
    premises: Premises,
    port: Directory,
    client_id: str,
    grants: Iterable[tuple[str, int]],
    approver: Actor,
    now: datetime,
) -> None:
    with Session(premises.engine) as session:
        rows = session.exec(
            select(AskRow.id, AskRow.permission, ResourceRow.name)
            .join(ResourceRow, col(ResourceRow.id) == AskRow.resource_id)
            .where(AskRow.client_id == client_id)
        )
        asks = {f"{resource} {permission}": ask_id for ask_id, permission, resource in rows}
    by_day: dict[int, list[str]] = {}
    for what, days in grants:
        by_day.setdefault(days, []).append(what)
    for days, names in sorted(by_day.items(), reverse=True):
        at = now - timedelta(days=days) + timedelta(hours=1)
        consent.grant(premises, port, client_id, [asks[name] for name in names], approver, at)


def _add_secret(
    premises: Premises, port: Directory, client_id: str, secret: DemoSecret, custodian: Actor, now: datetime
) -> None:
    at = now - timedelta(days=secret.issued) + timedelta(hours=2)
    if secret.days is not None:
        credential_id = credentials.issue_secret(premises, port, client_id, secret.days, custodian, at).credential.id
    else:
        credential_id = _import_endless(premises, port, client_id, at)
    if secret.seen is not None:
        seen = now - timedelta(days=secret.seen, minutes=14)
        with observation(premises.engine) as session:
            session.execute(
                update(CredentialRow)
                .where(col(CredentialRow.id) == credential_id)
                .values(first_used_at=at + timedelta(hours=3), last_used_at=seen)
            )


def _import_endless(premises: Premises, port: Directory, client_id: str, at: datetime) -> Any:
    """Bring in a secret from before the policy: no end, which no action would issue."""
    secret = secret_from(secrets.token_bytes(32))
    row = CredentialRow(
        id=uuid4(),
        client_id=client_id,
        kind=credentials.SECRET,
        hint=hint_of(secret),
        digest=digest_secret(premises.sealer.credential_key, secret),
        issued_at=at,
        issued_by=_SETUP.name,
        expires_at=None,
    )
    with unit_of_work(premises.engine, premises.sealer, port.id) as unit:
        unit.session.add(row)
        unit.enter(
            _SETUP,
            "secret.imported",
            {"kind": "credential", "id": str(row.id), "name": row.hint, "client": client_id},
            now=at,
            after={"hint": row.hint, "ends": "never"},
            reason="Taken over from the old register",
        )
    return row.id


def _add_uses(
    premises: Premises,
    client_id: str,
    resource: str,
    operation: str,
    calls: int,
    every: int,
    now: datetime,
    port: Directory,
) -> None:
    """Make up thirty days of use, a little uneven, the same on every load."""
    uses = []
    for back in range(0, 30, every):
        last = min(now, (now - timedelta(days=back)).replace(hour=21, minute=40)) - timedelta(minutes=3)
        wave = 1 + ((back * 7 + len(operation)) % 5 - 2) / 10
        uses.append((client_id, Use(operation, AccessKind.APPLICATION, last.date(), max(1, round(calls * wave)), last)))
    with observation(premises.engine) as session:
        row = session.exec(
            select(ResourceRow).where(ResourceRow.directory_id == port.id, ResourceRow.name == resource)
        ).one()
        usage.add_uses(session, row.id, uses)


def _add_failures(premises: Premises, port: Directory, client_id: str, demo: DemoClient, now: datetime) -> None:
    details = {
        "asked-not-granted": "berths.assign: asked, not granted. An approver of the directory must consent.",
        "secret-expired": "The client secret ended: have another issued.",
    }
    with observation(premises.engine) as session:
        for outcome, days in demo.failed:
            session.add(
                usage.AttemptRow(
                    directory_id=port.id,
                    client_id=client_id,
                    at=now - timedelta(days=days, minutes=30),
                    outcome=Outcome(outcome).value,
                    resource=RESOURCES[0].identifier,
                    detail=details[outcome],
                    address="192.0.2.17",
                    user_agent="crane-dashboard/2.1" if outcome == "secret-expired" else "bunker-slots/0.3",
                )
            )


def _add_automation(premises: Premises, port: Directory, handed: Handed, now: datetime) -> None:
    """Add the client of a script that registers, consents and issues, for whoever automates against Jamb itself."""
    at = now - timedelta(days=12)
    made = clients.register(
        premises,
        port,
        AUTOMATION,
        "Registers clients from a script, with what they need",
        ClientKind.SERVICE,
        [f"maren.oduya@{port.domain}"],
        _SETUP,
        at,
    )
    kind = AccessKind.APPLICATION
    names = list(AUTOMATION_PERMISSIONS)
    consent.ask(premises, port, made.id, own_api.NAME, names, kind, "Automation", _SETUP, at)
    consent.grant(premises, port, made.id, None, _SETUP, at)
    issued = credentials.issue_secret(premises, port, made.id, 90, _SETUP, at)
    handed.demo["automation"] = {
        "directory": port.slug,
        "client_id": made.id,
        "client_secret": issued.sheets[0].secret,
        "token_endpoint": premises.token_endpoint(port.slug),
        "resource": premises.own_identifier(port.slug),
    }


def _add_ferry_client(premises: Premises, brisling: Directory, now: datetime) -> None:
    at = now - timedelta(days=40)
    owner = f"sunniva.dahl@{brisling.domain}"
    clients.register(
        premises,
        brisling,
        "Timetable feed",
        "Publishes the sailings of the week",
        ClientKind.SERVICE,
        [owner],
        _SETUP,
        at,
    )


def _password() -> str:
    return "-".join([*(secrets.choice(_WORDS) for _ in range(3)), str(100 + secrets.randbelow(900))])
