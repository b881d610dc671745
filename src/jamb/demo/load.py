"""Load the scenario, through the same actions an administrator uses, at moments in the past."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from pathlib import Path
from typing import Any

from sqlmodel import Session

from jamb.actions import clients, consent, credentials, directories, people, resources
from jamb.actions.premises import Directory, Premises
from jamb.core import own_api
from jamb.core.clients import ClientKind
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.policy import DirectoryPolicy
from jamb.demo.cluster import write_private
from jamb.demo.history import History, add_uses
from jamb.demo.scenario import CLIENTS, DIRECTORIES, RESOURCES, DemoDirectory, DemoUse
from jamb.store.directories import by_slug
from jamb.store.work import Actor

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
    history = History(premises, port, actors, now)
    _publish(history, handed)
    for demo in CLIENTS:
        history.add(demo)
    history.also(now - timedelta(days=12), lambda at: _add_automation(premises, port, handed, at))
    history.happen()
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


def _publish(history: History, handed: Handed) -> None:
    """Publish the resources, the Berths one with a client of its own for the guard that reports its use."""
    at = history.now - timedelta(days=950)
    for catalogue in RESOURCES:
        guard_client = None
        if catalogue.name == "berths":
            guard_client = _berths_guard(history, handed, catalogue, at)
        resources.publish(history.premises, history.port, catalogue, _SETUP, at, guard_client_id=guard_client)


def _berths_guard(history: History, handed: Handed, catalogue: Catalogue, at: datetime) -> str:
    premises, port = history.premises, history.port
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

    def issue(later: datetime) -> None:
        issued = credentials.issue_secret(premises, port, made.id, 180, _SETUP, later)
        handed.guards["berths"] = {
            "issuer": premises.issuer(port.slug),
            "audience": catalogue.identifier,
            "report_url": f"{premises.own_identifier(port.slug)}/usage",
            "report_audience": premises.own_identifier(port.slug),
            "client_id": made.id,
            "client_secret": issued.sheets[0].secret,
        }

    history.also(history.now - timedelta(days=2), issue)
    add_uses(premises, port, made.id, DemoUse(own_api.NAME, "usage.report", 900), history.now)
    return made.id


def _add_automation(premises: Premises, port: Directory, handed: Handed, at: datetime) -> None:
    """Add the client of a script that registers, consents and issues, for whoever automates against Jamb itself."""
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
