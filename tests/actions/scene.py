"""An organisation in a database of its own, and many who act in it at the same moment."""

from __future__ import annotations

import os
import threading
from collections import Counter
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from datetime import UTC, datetime, timedelta
from typing import Any

import psycopg
from sqlalchemy import Engine
from sqlmodel import Session

from jamb.actions.base.act import Act, act_in
from jamb.actions.base.all_directories import OPERATOR
from jamb.actions.base.backend import Backend
from jamb.actions.clients.registrations import register
from jamb.actions.directory.directories import open_directory
from jamb.actions.directory.ledger import read_ledger, verify_ledger
from jamb.actions.directory.people import add_person, list_people, set_first_password
from jamb.core import own_api
from jamb.core.clients.clients import ClientKind, registration
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.permissions import Catalogue
from jamb.store.base import sealing_marks
from jamb.store.base.migrate import migrate
from jamb.store.base.sealing import KEY_BYTES, Sealer, SealingKey
from jamb.store.base.work import Actor, Once
from jamb.store.connections.engine import make_engine
from jamb.wire.clients.clients import Client
from jamb.wire.directory.people import Person
from tests.core.build import operation, permission

NOW = datetime(2026, 3, 2, 9, tzinfo=UTC)
ADDRESS = "https://identity.alder.example"
KEY = SealingKey(b"k" * KEY_BYTES)
MANY = 8
PASSWORD = "a bridge over the weir"
QUAY = Catalogue.of(
    "quay", "Quay", "https://quay.alder.example", [operation("berths")], [permission("quay.read", "berths")]
)


@dataclass(frozen=True)
class Scene:
    """The directory `alder`, with Ines who is steward, Tom who registers, and Vera who approves."""

    backend: Backend
    url: str
    people: dict[str, Person]
    _engines: list[Engine] = field(default_factory=list)

    def actor(self, login: str) -> Actor:
        person = self.people[login]
        return Actor("person", str(person.id), person.name, "tests")

    def act(self, login: str = "ines", *, slug: str = "alder", once: str = "", at: timedelta = timedelta()) -> Act:
        """An act as one of the three, by default the steward; `once`: the key and what is asked, in one word."""
        actor = self.actor(login)
        if once:
            actor = replace(actor, once=Once(once, once.encode()))
        return act_in(self.backend, slug, NOW + at, actor)

    def client(self, name: str = "Quay Board", owner: str = "tom") -> Client:
        wanted = registration(name, "Shows the quay", ClientKind.SERVICE)
        return register(self.act("tom"), wanted, [f"{owner}@alder.example"])

    def elsewhere(self, url: str = ADDRESS) -> Backend:
        """The backend of another process on the same database, with connections of its own."""
        self._engines.append(make_engine(self.url))
        return replace(self.backend, engine=self._engines[-1], base_url=url)

    def close(self) -> None:
        for engine in (self.backend.engine, *self._engines):
            engine.dispose()

    def entries(self, slug: str = "alder") -> list[str]:
        """What the ledger of a directory says was done, oldest first."""
        page = read_ledger(self.act(slug=slug), client_id=None, before=None, limit=500)
        return [entry.action for entry, _ in reversed(page.items)]

    def sound(self, slug: str = "alder") -> bool:
        return verify_ledger(self.act(slug=slug)).fault is None


@dataclass(frozen=True)
class TemplateDatabase:
    """A database that is made once and copied for each test."""

    server: str
    name: str

    @classmethod
    def made(cls, server: str, name: str) -> TemplateDatabase:
        found = cls(server, name)
        with psycopg.connect(server, autocommit=True) as database:
            database.execute(f"create database {name}")
        backend = _backend(found.url(name))
        migrate(backend.engine)
        with Session(backend.engine) as session:
            sealing_marks.keep_first(session, KEY.mark, KEY.seal_root(b"r" * KEY_BYTES), NOW)
            session.commit()
        open_directory(backend, "alder", "Alder Works", "alder.example", DirectoryPolicy(), OPERATOR, NOW)
        operator = act_in(backend, "alder", NOW, OPERATOR)
        for login, roles in PEOPLE.items():
            add_person(operator, f"{login}@alder.example", login.title(), roles)
        set_first_password(operator, "ines@alder.example", PASSWORD)
        backend.engine.dispose()
        return found

    def url(self, name: str) -> str:
        return self.server.rsplit("/", 1)[0] + f"/{name}"

    @contextmanager
    def copied(self) -> Iterator[Scene]:
        name = f"acts_{os.urandom(4).hex()}"
        with psycopg.connect(self.server, autocommit=True) as database:
            database.execute(f"create database {name} template {self.name}")
            backend = _backend(self.url(name))
            made = Scene(backend, self.url(name), _people(backend))
            try:
                yield made
            finally:
                made.close()
                database.execute(f"drop database if exists {name} with (force)")


PEOPLE = {"ines": [own_api.STEWARD], "tom": ["registrar"], "vera": ["approver"]}


def _backend(url: str) -> Backend:
    return Backend(make_engine(url), Sealer(b"r" * KEY_BYTES, KEY.mark), ADDRESS)


def _people(backend: Backend) -> dict[str, Person]:
    return {person.login.split("@")[0]: person for person in list_people(act_in(backend, "alder", NOW))[0]}


def at_once(work: Callable[[int], Any], many: int = MANY) -> tuple[list[Any], Counter[str]]:
    """Do something many times at the same moment; return what came of it, and the errors by name."""
    gate = threading.Barrier(many)

    def one(number: int) -> Any:
        gate.wait()
        return work(number)

    with ThreadPoolExecutor(many) as pool:
        going = [pool.submit(one, number) for number in range(many)]
    done: list[Any] = []
    failed: Counter[str] = Counter()
    for each in going:
        error = each.exception()
        if error is None:
            done.append(each.result())
        else:
            failed[type(error).__name__] += 1
    return done, failed
