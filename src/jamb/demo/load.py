"""Load the scenario, through the same actions an administrator uses, at moments in the past."""

from __future__ import annotations

import json
import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import partial
from pathlib import Path
from typing import Any

from sqlmodel import Session

from jamb.actions.audit import findings as audit
from jamb.actions.audit import reviews
from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.act import THE_SERVICE, Act
from jamb.actions.base.backend import Backend
from jamb.actions.clients import registrations
from jamb.actions.consent import asks, consent, dry_runs, requests
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.directory import directories, groups, people, providers, roles
from jamb.actions.resources import resources
from jamb.core import own_api
from jamb.core.audit.reviews import Answer, ReviewScope
from jamb.core.clients.clients import ClientKind, registration
from jamb.core.consent.requests import RequestEvent
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy, Registering
from jamb.core.directory.providers import Provider
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind, Catalogue, DataClass
from jamb.core.reach import CollectionTree, Reach
from jamb.demo.apps.staff import CLIENT_ID
from jamb.demo.cluster import write_private
from jamb.demo.history import History, add_uses
from jamb.demo.links import hand_over
from jamb.demo.passwords import drawn_password
from jamb.demo.scenario import (
    BERTHS,
    CLIENTS,
    COLLECTIONS,
    DIRECTORIES,
    GROUPS,
    QUESTIONS,
    REQUESTS,
    RESOURCES,
    ROLES,
    ROTATIONS,
    TERMS,
    DemoDirectory,
    DemoUse,
    read_reach,
)
from jamb.store.audit.findings import Wanted
from jamb.store.base.work import Actor
from jamb.store.directory.directories import by_slug
from jamb.store.resources.usage import Refused

_OPENED = timedelta(days=1000)
# What the staff list calls it, and the group here.
_UNITS = {"Field crew": "field-crew"}
_SETUP = Actor("service", "demo", "Demo set-up", "Demo set-up")
AUTOMATION = "Registration pipeline"
# The resources whose stand-in APIs run.
GUARDED = ("berths", "dispatches")
AUTOMATION_PERMISSIONS = ("registry.write", "consent.decide", "credentials.manage")


@dataclass(frozen=True)
class Handed:
    """What the scenario hands to people and programs: never kept in the database."""

    demo: dict[str, Any]
    guards: dict[str, Any]


def scenario_present(backend: Backend) -> bool:
    with Session(backend.engine) as session:
        return by_slug(session, DIRECTORIES[0].slug) is not None


# How many days ago somebody looked at what is wrong, so that findings have an age.
_AUDITED = (120, 70, 40, 21, 6)


def load(backend: Backend, home: Path, stand_in_url: str, now: datetime) -> None:
    """Load everything; write demo.json (for people, tests, benchmarks) and guards.json, both readable by us only."""
    handed = Handed({"base_url": backend.base_url, "directories": {}, "people": [], "apis": {}}, {})
    opened = {place.slug: _open(backend, place, handed, now - _OPENED) for place in DIRECTORIES}
    port = opened["quillhaven"]
    actors = {
        person.login.partition("@")[0]: Actor("person", str(person.id), person.name, "Jamb console")
        for person in people.list_people(Act(backend, port, THE_SERVICE, now), limit=100)[0]
    }
    history = History(backend, port, actors, now, stand_in_url)
    _publish(history, handed)
    _publish_on_trial(backend, opened["quillhaven-trial"], now - _OPENED)
    _people_and_roles(history)
    for demo in CLIENTS:
        history.add(demo)
    for request in REQUESTS:
        history.request(request)
    for rotation in ROTATIONS:
        history.rotate(rotation)
    history.also(now - timedelta(days=73), lambda at: _tighten(history, at))
    history.also(now - timedelta(days=31), lambda at: history.consent_by_person("Watch tablet", "yuki.tanabe", at))
    history.also(now - timedelta(days=12), lambda at: _add_automation(history, handed, at))
    history.also(now - timedelta(days=11), lambda at: _add_helper(history, handed, at))
    history.also(now - timedelta(days=4), lambda at: _tighten_further(history, at))
    history.also(now - timedelta(days=2), lambda at: _ask_owners(history, at))
    for days in _AUDITED:
        history.also(now - timedelta(days=days), lambda at: sweep(backend, port.slug, at, clock=lambda: at))
    history.left_behind()
    history.before_two_agreed()
    hand_over(history)
    history.happen()
    sweep(backend, port.slug, now)
    dry_runs.request(
        Act(backend, port, history.actors["maren.oduya"], now),
        history.client_id("Mail archive"),
        "dispatches",
        None,
        "The archive keeps invoices: it has never opened another mailbox",
    )
    _give_to_owner(history, now)
    late = now - timedelta(hours=5)
    history.refused(
        "Duty mail digest",
        [Refused("messages.read", AccessKind.APPLICATION, "reach", "board.papers", late.date(), 3, late)],
    )
    _add_ferry_client(backend, opened["brisling"], now)
    for catalogue in RESOURCES:
        if catalogue.name in GUARDED:
            resources.set_address(Act(backend, port, _SETUP, now), catalogue.name, stand_in_url)
            handed.demo["apis"][catalogue.name] = {"base_url": stand_in_url, "resource": catalogue.identifier}
    handed.guards.update(_applications(history, stand_in_url))
    handed.guards["staff"] = _add_provider(backend, opened["brisling"], stand_in_url, now)
    write_private(home / "guards.json", json.dumps(handed.guards, indent=2))
    write_private(home / "demo.json", json.dumps(handed.demo, indent=2) + "\n")


def _applications(history: History, stand_in_url: str) -> dict[str, dict[str, str]]:
    """Return what each stand-in application is told of itself."""
    names = {"watch": "Watch tablet", "roster": "Pilot roster", "kiosk": "Berth kiosk"}
    told = {
        short: {
            "issuer": history.backend.issuer(history.port.slug),
            "client_id": history.client_id(name),
            "own_url": f"{stand_in_url}/{short}",
            "api_url": stand_in_url,
        }
        for short, name in names.items()
    }
    told["roster"] |= {"client_secret": history.secrets[names["roster"]], "resource": BERTHS.identifier}
    return told


def _tighten(history: History, at: datetime) -> None:
    """Change the port's policy once there are groups: who may register, and when a second approver is due."""
    changes = {
        "registering": Registering.GROUPS,
        "registering_groups": ("harbour-office",),
        "two_approvers_weight": 36,
        "people_may_consent": True,
        "self_rotation": True,
    }
    steward = history.actors["hanneke.brouwer"]
    history.agreed(
        "tobias.lindqvist",
        at,
        lambda: directories.change_policy(Act(history.backend, history.port, steward, at), changes),
    )
    history.port = directories.read_directory(history.backend, history.port.slug)


def _tighten_further(history: History, at: datetime) -> None:
    """Let secrets serve only for so much; what is heavier shows up in the audit until it has a key."""
    steward = history.actors["hanneke.brouwer"]
    directories.change_policy(Act(history.backend, history.port, steward, at), {"secret_heaviest_weight": 500})
    history.port = directories.read_directory(history.backend, history.port.slug)


# What an owner is to see to: of which client, by which rule, with which words; and what he answered, if he did.
_GIVEN = (
    ("Quay dashboard", "permission-larger-than-use", "Does the harbour master close berths on it?", ""),
    ("Storm bell", "disabled-with-credentials", "Will it ring again?", "Its loudspeaker is back in spring"),
)


def _give_to_owner(history: History, now: datetime) -> None:
    """Give two findings to an owner, who has answered for one."""
    registrar, owner = history.actors["maren.oduya"], history.actors["oskar.pell"]
    for client, rule, note, said in _GIVEN:
        client_id = history.client_id(client)
        wanted = Wanted(rule=rule, client_id=client_id)
        (found,), _ = audit.list_findings(Act(history.backend, history.port, THE_SERVICE, now), wanted, None, 1)
        login = f"oskar.pell@{history.port.domain}"
        audit.assign(Act(history.backend, history.port, registrar, now), found.id, login, note)
        if said:
            audit.answer(Act(history.backend, history.port, owner, now), client_id, found.id, said)


def _ask_owners(history: History, at: datetime) -> None:
    """Start the review of the year over personal and restricted data; some owners have answered."""
    registrar, scope = history.actors["maren.oduya"], ReviewScope("", DataClass.PERSONAL)
    review = reviews.start_review(
        Act(history.backend, history.port, registrar, at), "Personal data, this year", scope, 21
    )
    items, _ = reviews.list_items(Act(history.backend, history.port, THE_SERVICE, at), review.id, limit=1000)
    answers = {"Night invoice run": Answer.CONFIRM, "Duty mail digest": Answer.CONFIRM}
    for item in items:
        if item.client_name in answers:
            said = reviews.Said(item.id, answers[item.client_name], "Needed every day")
            owner = history.actors["oskar.pell"]
            later = at + timedelta(hours=5)
            reviews.answer(Act(history.backend, history.port, owner, later), review.id, item.client_id, [said])


def _add_helper(history: History, handed: Handed, at: datetime) -> None:
    """Add a small client that may renew the credentials of two others, of which one is gone since."""
    backend, port, maren = history.backend, history.port, history.actors["maren.oduya"]
    made = registrations.register(
        Act(backend, port, maren, at),
        registration(
            "Key renewal helper",
            "Renews the credentials of two scripts at night",
            ClientKind.SERVICE,
        ),
        [f"wouter.haan@{port.domain}", f"maren.oduya@{port.domain}"],
    )
    reach = Reach.only(handed.demo["automation"]["client_id"], history.client_id("Import test 2"))
    name, kind = "credentials.manage", AccessKind.APPLICATION
    asks.ask(Act(backend, port, maren, at), made.id, own_api.NAME, [name], kind, "Scripts stop at night", reach)
    asked = requests.make_request(Act(backend, port, maren, at), made.id, None, "Two scripts stop at night", {}, False)
    for approver in ("tobias.lindqvist", "hanneke.brouwer"):
        yes = RequestEvent.GRANT
        requests.decide_request(Act(backend, port, history.actors[approver], at), asked.id, yes, None, None, "")
    add_credential(Act(backend, port, _SETUP, at), made.id, SecretIssued(90), "")


def _open(backend: Backend, place: DemoDirectory, handed: Handed, at: datetime) -> Directory:
    directory = directories.open_directory(backend, place.slug, place.name, place.domain, DirectoryPolicy(), _SETUP, at)
    handed.demo["directories"][place.slug] = {
        "name": place.name,
        "issuer": backend.issuer(place.slug),
        "resource": backend.own_identifier(place.slug),
    }
    for person in place.people:
        login = f"{person.login}@{place.domain}"
        password = drawn_password() if person.signs_in else None
        people.add_person(Act(backend, directory, _SETUP, at), login, person.name, person.roles)
        if password:
            people.set_first_password(Act(backend, directory, _SETUP, at), login, password)
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
    """Publish the resources with their collections; the stand-ins' guards have clients of their own."""
    backend, port, at = history.backend, history.port, history.now - timedelta(days=950)
    for catalogue in RESOURCES:
        guard_client = None
        if catalogue.name in GUARDED:
            guard_client = _guard_client(history, handed, catalogue, at)
        resources.publish(
            Act(backend, port, _SETUP, at),
            catalogue,
            guard_client_id=guard_client,
            questions=QUESTIONS.get(catalogue.name, ()),
            terms=TERMS.get(catalogue.name, ""),
        )
        if catalogue.name in COLLECTIONS:
            tree = CollectionTree.of(COLLECTIONS[catalogue.name])
            resources.replace_collections(Act(backend, port, _SETUP, at), catalogue.name, tree)


def _publish_on_trial(backend: Backend, ground: Directory, at: datetime) -> None:
    """Publish the same resources on the trial ground, with their collections, so that charters can be followed there.

    No stand-in there: what is tried is who may do what.
    """
    for catalogue in RESOURCES:
        resources.publish(Act(backend, ground, _SETUP, at), catalogue)
        if catalogue.name in COLLECTIONS:
            tree = CollectionTree.of(COLLECTIONS[catalogue.name])
            resources.replace_collections(Act(backend, ground, _SETUP, at), catalogue.name, tree)


def _guard_client(history: History, handed: Handed, catalogue: Catalogue, at: datetime) -> str:
    backend, port = history.backend, history.port
    made = registrations.register(
        Act(backend, port, _SETUP, at),
        registration(
            f"{catalogue.title} API",
            f"The {catalogue.title} API itself: reports which operations were used, and reads what to refuse",
            ClientKind.SERVICE,
        ),
        [f"oskar.pell@{port.domain}"],
    )
    names = ["usage.report", "revocations.read"]
    asks.ask(Act(backend, port, _SETUP, at), made.id, own_api.NAME, names, AccessKind.APPLICATION, "Its guard")
    consent.grant(Act(backend, port, history.actors["tobias.lindqvist"], at), made.id, None)

    def issue(later: datetime) -> None:
        issued = add_credential(Act(backend, port, _SETUP, later), made.id, SecretIssued(180), "")
        handed.guards[catalogue.name] = {
            "issuer": backend.issuer(port.slug),
            "audience": catalogue.identifier,
            "api": backend.own_identifier(port.slug),
            "client_id": made.id,
            "client_secret": issued.sheets[0].secret,
        }

    history.also(history.now - timedelta(days=2), issue)
    add_uses(backend, port, made.id, DemoUse(own_api.NAME, "usage.report", 900), history.now)
    add_uses(backend, port, made.id, DemoUse(own_api.NAME, "revocations.read", 9000), history.now)
    return made.id


def _people_and_roles(history: History) -> None:
    """Make the groups and custom roles, and assign those that people and groups hold."""
    backend, port, at = history.backend, history.port, history.now - timedelta(days=940)
    for group in GROUPS:
        members = [f"{login}@{port.domain}" for login in group.people]
        groups.save_group(Act(backend, port, _SETUP, at), group.name, group.title, members, group.groups)
    for role in ROLES:
        roles.save_role(Act(backend, port, _SETUP, at), role.name, role.title, role.resource, role.permissions)
        for held in role.held:
            kind, _, rest = held.partition(":")
            if kind == "client":
                history.also(history.now - timedelta(days=54), partial(_assign, history, role.name, kind, rest))
            else:
                _assign(history, role.name, kind, rest, at)


def _assign(history: History, role: str, kind: str, rest: str, at: datetime) -> None:
    holder, _, reach = rest.partition(" only ")
    reference = holder
    if kind == "person":
        reference = f"{holder}@{history.port.domain}"
    elif kind == "client":
        reference = history.client_id(holder)
    words = ["only", *reach.split()] if reach else []
    by = history.actors["hanneke.brouwer"]
    roles.assign_role(
        Act(history.backend, history.port, by, at), role, HolderKind(kind), [reference], read_reach(words), None
    )


def _add_automation(history: History, handed: Handed, at: datetime) -> None:
    """Add the client of a script that registers, consents and issues, for whoever automates against Jamb itself."""
    backend, port, maren = history.backend, history.port, history.actors["maren.oduya"]
    made = registrations.register(
        Act(backend, port, _SETUP, at),
        registration(
            AUTOMATION,
            "Registers clients from a script, with what they need",
            ClientKind.SERVICE,
        ),
        [f"maren.oduya@{port.domain}"],
    )
    kind = AccessKind.APPLICATION
    names = list(AUTOMATION_PERMISSIONS)
    asks.ask(Act(backend, port, maren, at), made.id, own_api.NAME, names, kind, "Automation")
    asked = requests.make_request(
        Act(backend, port, maren, at), made.id, None, "The script of the harbour office", {}, False
    )
    for approver in ("tobias.lindqvist", "hanneke.brouwer"):
        yes = RequestEvent.GRANT
        requests.decide_request(Act(backend, port, history.actors[approver], at), asked.id, yes, None, None, "")
    issued = add_credential(Act(backend, port, _SETUP, at), made.id, SecretIssued(90), "")
    handed.demo["automation"] = {
        "directory": port.slug,
        "client_id": made.id,
        "client_secret": issued.sheets[0].secret,
        "token_endpoint": backend.token_endpoint(port.slug),
        "resource": backend.own_identifier(port.slug),
    }


def _add_provider(backend: Backend, brisling: Directory, stand_in_url: str, now: datetime) -> dict[str, str]:
    """Let the people of Brisling sign in by the ferry company's own staff list; return what that must know."""
    act, secret = Act(backend, brisling, _SETUP, now - timedelta(days=39)), secrets.token_urlsafe(24)
    groups.save_group(act, "field-crew", "Field crew", [], [])
    wanted = Provider("staff", "Brisling staff", f"{stand_in_url}/staff", CLIENT_ID, True, "groups", _UNITS)
    providers.save_provider(act, wanted, secret, "The ferry company keeps its people there")
    return {
        "issuer": wanted.issuer,
        "secret": secret,
        "redirect_uri": providers.redirect_uri(backend, brisling.slug),
    }


def _add_ferry_client(backend: Backend, brisling: Directory, now: datetime) -> None:
    at = now - timedelta(days=40)
    owner = f"sunniva.dahl@{brisling.domain}"
    registrations.register(
        Act(backend, brisling, _SETUP, at),
        registration(
            "Timetable feed",
            "Publishes the sailings of the week",
            ClientKind.SERVICE,
        ),
        [owner],
    )
