"""A directory of its own for each attack: what is worth having, who else is there, and somebody who wants more."""

from __future__ import annotations

import secrets
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from typing import Any
from uuid import UUID

import httpx
from sqlalchemy import text
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.clients import registrations
from jamb.actions.consent import asks, consent, requests
from jamb.actions.directory import directories, people, roles
from jamb.actions.resources import resources
from jamb.core import own_api
from jamb.core.clients.clients import ClientKind, OwnerLevel, registration
from jamb.core.consent.requests import RequestEvent
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach
from jamb.service.callers import CSRF_HEADER
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings
from jamb.store.base.work import Actor
from jamb.store.connections.engine import make_engine
from jamb.store.directory.people import ConsoleSessionRow
from tests.world import World, choose_password

BOTH = frozenset(AccessKind)
R, W, C = Effect.READ, Effect.WRITE, Effect.CONTROL
SETUP = Actor("service", "set-up", "Set-up", "Set-up")
ROLES = ("registrar", "approver", "custodian", "steward", "auditor")
HERE = "The adversary's directory"


def vault(identifier: str = "https://vault.example") -> Catalogue:
    """Return a catalogue with something light, something heavy and something far too heavy for one person."""
    return Catalogue.of(
        "vault",
        "Vault",
        identifier,
        [
            Operation("doors.list", "List doors", "GET", "/doors", R, DataClass.INTERNAL),
            Operation("door.look", "Look through a door", "GET", "/doors/{door}", R, DataClass.PERSONAL),
            Operation("door.open", "Open a door", "POST", "/doors/{door}", W, DataClass.RESTRICTED),
            Operation("vault.empty", "Empty the vault", "DELETE", "/vault", C, DataClass.RESTRICTED),
        ],
        [
            Permission("doors.see", "See doors", BOTH, frozenset({"doors.list"})),
            Permission("doors.look", "Look through doors", BOTH, frozenset({"door.look"})),
            Permission("doors.open", "Open doors", BOTH, frozenset({"door.open"}), frozenset({"doors.see"})),
            Permission("vault.empty", "Empty it", BOTH, frozenset({"vault.empty"}), frozenset({"doors.open"})),
        ],
        "door",
    )


DOORS = CollectionTree.of(
    [
        Collection("front", "Front", frozenset({"f1", "f2"})),
        Collection("back", "Back", frozenset({"b1", "b2"})),
        Collection("none", "None yet"),
    ]
)


@dataclass
class Scene:
    """One directory. `knows`: passwords or secrets by which the adversary can act: ids of people, secrets of clients."""

    world: World
    backend: Backend
    directory: Directory
    adversary: str
    actors: dict[str, Actor]
    clients: dict[str, str]
    people: set[str] = field(default_factory=set)
    secrets: dict[str, str] = field(default_factory=dict)
    held: set[str] = field(default_factory=set)
    removed: set[str] = field(default_factory=set)
    # What they could do at the beginning.
    begun: Any = None
    _http: dict[str, httpx.Client] = field(default_factory=dict)

    @property
    def base(self) -> str:
        return f"/api/v1/directories/{self.directory.slug}"

    @property
    def identities(self) -> list[str]:
        """Everybody that the adversary can act as: themself, people whose password they chose, clients of secrets."""
        return sorted({self.adversary, *self.people, *self.secrets})

    def call(self, who: str, method: str, path: str, body: Any = None) -> httpx.Response:
        return self._as(who).request(method, self.base + path, json=body)

    def _as(self, who: str) -> httpx.Client:
        if who in self.secrets and who not in self._http:
            self._http[who] = httpx.Client(base_url=self.world.base_url, timeout=60)
        if who in self.secrets:
            form = {
                "grant_type": "client_credentials",
                "client_id": who,
                "client_secret": self.secrets[who],
                "resource": self.backend.own_identifier(self.directory.slug),
            }
            answer = self._http[who].post(f"/d/{self.directory.slug}/token", data=form)
            token = answer.json().get("access_token", "none")
            self._http[who].headers["Authorization"] = f"Bearer {token}"
        elif who not in self._http:
            self._http[who] = signed_in(self.backend, self.world, who)
        return self._http[who]

    def takes_over(self, who: str, person_id: str) -> bool:
        """Make a sign-in link for a person and choose their password by it; from then on act as them."""
        made = self.call(who, "POST", f"/people/{person_id}/sign-in-links", {})
        if made.status_code == 201:
            choose_password(made.json()["link"], "known to the adversary")
            self.people.add(person_id)
        return made.status_code == 201

    def close(self) -> None:
        for one in self._http.values():
            one.close()


def signed_in(backend: Backend, world: World, person_id: str) -> httpx.Client:
    """Return a signed-in browser of a person: the session as signing in makes it, without stretching the password."""
    cookie, now = secrets.token_urlsafe(32), datetime.now(UTC)
    with Session(backend.engine) as session:
        session.add(
            ConsoleSessionRow(
                digest=sha256(cookie.encode()).digest(),
                person_id=UUID(person_id),
                created_at=now,
                seen_at=now,
                expires_at=now + timedelta(hours=1),
            )
        )
        session.commit()
    http = httpx.Client(base_url=world.base_url, cookies={"jamb_session": cookie}, timeout=60)
    http.headers[CSRF_HEADER] = http.get("/api/v1/session").json()["csrf"]
    return http


def backend_of(world: World) -> Backend:
    settings = Settings(home=world.home, port=world.port)
    engine = make_engine(world.cluster.url)
    return Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), world.base_url)


def made_scene(world: World, backend: Backend, held: Sequence[str], owned: Sequence[str]) -> Scene:
    """Open a directory with something to gain.

    Args:
        held: roles of the adversary. owned: "client level" of the clients that they own.
    """
    now = datetime.now(UTC) - timedelta(days=90)
    slug = f"a{secrets.token_hex(6)}"
    policy = DirectoryPolicy(two_people_weight=24, two_approvers_weight=60)
    port = directories.open_directory(backend, slug, HERE, f"{slug}.example", policy, SETUP, now)
    actors: dict[str, Actor] = {}
    for name, role in (("ada", held), ("bo", ("approver",)), ("cy", ("approver", "steward")), ("di", ())):
        person = people.add_person(Act(backend, port, SETUP, now), f"{name}@{slug}.example", name.title(), role)
        actors[name] = Actor("person", str(person.id), person.name, "Jamb console")
    _let_sign_in(backend, [one.id for one in actors.values()])
    resources.publish(Act(backend, port, SETUP, now), vault())
    resources.replace_collections(Act(backend, port, SETUP, now), "vault", DOORS)
    for name, names in (("watch", ("doors.see",)), ("opener", ("doors.open",))):
        roles.save_role(Act(backend, port, SETUP, now), name, name, "vault", names)
    roles.assign_role(Act(backend, port, SETUP, now), "opener", HolderKind.PERSON, [actors["di"].id], EVERYWHERE, None)
    made: dict[str, str] = {}
    for name, resource, permissions, reach in (
        ("Strong", "vault", ("vault.empty",), EVERYWHERE),
        ("Bounded", "vault", ("doors.open",), Reach.only("front")),
        ("Small", "vault", ("doors.see",), EVERYWHERE),
        ("Pipeline", own_api.NAME, ("registry.write", "consent.decide", "credentials.manage"), EVERYWHERE),
        ("Empty", "", (), EVERYWHERE),
    ):
        client = registrations.register(
            Act(backend, port, SETUP, now),
            registration(name, "Made for an attack", ClientKind.SERVICE),
            [actors["di"].id],
        )
        made[name] = client.id
        if permissions:
            kind = AccessKind.APPLICATION
            asks.ask(Act(backend, port, actors["di"], now), client.id, resource, list(permissions), kind, "", reach)
            consented(backend, port, client.id, [actors["bo"], actors["cy"]], actors["di"], now)
    for what in owned:
        name, _, level = what.partition(" ")
        registrations.change_owners(
            Act(backend, port, SETUP, now), made[name], [actors["ada"].id], [], OwnerLevel(level or "full")
        )
    return Scene(world, backend, port, actors["ada"].id, actors, made)


def consented(
    backend: Backend, port: Directory, client_id: str, approvers: Sequence[Actor], asker: Actor, now: datetime
) -> None:
    """Consent to what a client asks, by as many people as it takes."""
    asked = requests.make_request(Act(backend, port, asker, now), client_id, None, "For an attack", {}, True)
    for one in approvers:
        if asked.state.value == "waiting":
            yes = RequestEvent.GRANT
            asked = requests.decide_request(Act(backend, port, one, now), asked.id, yes, None, None, "")


def _let_sign_in(backend: Backend, ids: Sequence[str]) -> None:
    """Give people a password that nobody knows: to decide, a person must be able to sign in."""
    with backend.engine.begin() as connection:
        connection.execute(
            text("update person set password_hash = 'nobody knows' where id = any(:ids)"),
            {"ids": [UUID(one) for one in ids]},
        )


__all__ = ["DOORS", "ROLES", "Scene", "backend_of", "consent", "made_scene", "signed_in", "vault"]
