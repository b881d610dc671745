"""Months of a directory, drawn: what is done in it through its actions, and how long nothing is."""

from __future__ import annotations

import random
from collections.abc import Callable
from contextlib import suppress
from datetime import datetime, timedelta
from uuid import UUID

import psycopg

from jamb.actions.audit.reviews import start_review
from jamb.actions.base.act import Act
from jamb.actions.clients import clients, registrations
from jamb.actions.consent import asks, requests
from jamb.actions.credentials import rotations
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.credentials.opening import open_rotation
from jamb.actions.directory import roles
from jamb.actions.directory.directories import change_policy
from jamb.actions.resources.resources import publish
from jamb.core.audit.reviews import ReviewScope
from jamb.core.clients.clients import ClientState
from jamb.core.consent.requests import RequestEvent
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import JambError
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE
from tests.actions.scene import NOW, QUAY, Scene


class Walk:
    """Some months of a directory, drawn: what is done in it, and how long nothing is."""

    def __init__(self, scene: Scene, seed: int) -> None:
        self.scene, self.drawn = scene, random.Random(seed)
        self.at = timedelta()
        self.clients: list[str] = []
        self.credentials: list[tuple[str, UUID]] = []
        self.rotations: list[tuple[str, UUID, UUID]] = []
        self.requests: list[tuple[str, UUID]] = []
        publish(scene.act(), QUAY)

    @property
    def now(self) -> datetime:
        return NOW + self.at

    def step(self) -> None:
        self.at += timedelta(minutes=self.drawn.choice((1, 1, 50, 60 * 7, 60 * 24, 60 * 70)))
        with suppress(JambError):
            self.drawn.choice(self.deeds)()

    @property
    def deeds(self) -> list[Callable[[], object]]:
        if not self.clients:
            return [self.register]
        some: list[Callable[[], object]] = [
            self.register,
            self.issue,
            self.issue,
            self.turn,
            self.hand_over,
            self.loosen,
            self.promote,
            self.ask,
        ]
        some += [self.review] if self.drawn.random() < 0.3 else []
        some += [self.rotate, self.use, self.use] if self.credentials else []
        some += [self.end_rotation, self.use_old, self.use_old] if self.rotations else []
        some += [self.decide] if self.requests else []
        return some

    def act(self, login: str = "ines") -> Act:
        return self.scene.act(login, at=self.at)

    def register(self) -> None:
        made = self.scene.client(f"Board {len(self.clients)}", self.drawn.choice(("tom", "vera")))
        self.clients.append(made.id)

    def issue(self) -> None:
        client = self.drawn.choice(self.clients)
        made = add_credential(self.act(), client, SecretIssued(days=self.drawn.randint(1, 60)), "host")
        self.credentials.append((client, made.credential.id))

    def turn(self) -> None:
        state = self.drawn.choice((ClientState.LIVE, ClientState.DISABLED))
        clients.set_state(self.act(), self.drawn.choice(self.clients), state, "so it is")

    def hand_over(self) -> None:
        logins = [f"{name}@alder.example" for name in self.drawn.sample(("tom", "vera", "ines"), 2)]
        registrations.change_owners(self.act(), self.drawn.choice(self.clients), logins[:1], logins[1:])

    def loosen(self) -> None:
        change_policy(self.act(), {"warn_days": self.drawn.randint(2, 40)})

    def promote(self) -> None:
        role, login = self.drawn.choice(("approver", "custodian")), self.drawn.choice(("tom", "vera"))
        roles.assign_role(self.act(), role, HolderKind.PERSON, [f"{login}@alder.example"], EVERYWHERE, None)

    def ask(self) -> None:
        client = self.drawn.choice(self.clients)
        asks.ask(self.act("tom"), client, "quay", ["quay.read"], AccessKind.APPLICATION, "for the board")
        made = requests.make_request(self.act("tom"), client, None, "the board needs it", {}, False)
        self.requests.append((client, made.id))

    def decide(self) -> None:
        _, made = self.requests.pop()
        said = self.drawn.choice((RequestEvent.GRANT, RequestEvent.DECLINE))
        requests.decide_request(self.act("vera"), made, said, None, None, "so it is")

    def review(self) -> None:
        start_review(self.act(), f"Review {self.at}", ReviewScope(), self.drawn.randint(1, 20))

    def rotate(self) -> None:
        client, old = self.drawn.choice(self.credentials)
        opened = open_rotation(self.act(), client, old, None, self.drawn.randint(5, 60), self.drawn.randint(1, 20))
        self.rotations.append((client, opened.rotation.id, old))

    def end_rotation(self) -> None:
        client, rotation, _ = self.rotations.pop(self.drawn.randrange(len(self.rotations)))
        self.drawn.choice(
            (
                lambda: rotations.close(self.act(), client, rotation, True, "moved over"),
                lambda: rotations.abandon(self.act(), client, rotation, "not now"),
                lambda: rotations.extend(self.act(), client, rotation, 9),
            )
        )()

    def use(self) -> None:
        self.record_use(self.drawn.choice(self.credentials)[1])

    def use_old(self) -> None:
        self.record_use(self.drawn.choice(self.rotations)[2])

    def record_use(self, credential: UUID) -> None:
        """As the service does: without an entry in the ledger, and some time later."""
        used = self.now - timedelta(minutes=1)
        with psycopg.connect(self.scene.url) as database:
            database.execute(
                "update credential set last_used_at = %s, first_used_at = coalesce(first_used_at, %s) where id = %s",
                (used, used, credential),
            )
