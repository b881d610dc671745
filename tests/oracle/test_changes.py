"""Whatever is changed by whomever while rounds run in two processes, what is kept is what looking at all would find."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from random import Random
from typing import Any

from sqlmodel import Session

from jamb.actions.audit.evaluation import sweep
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.client import BadInput, Conflict, Forbidden, Jamb, NotFound
from jamb.core.audit.evaluate import evaluate
from jamb.core.directory.roles import HolderKind
from jamb.core.reach import ReachKind
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import findings
from jamb.wire.clients.clients import Client
from jamb.wire.resources.reach import ReachSent
from tests.adversary.scene import backend_of
from tests.world import PATIENCE, ROOT, World, unique

SLUG = "quillhaven"
# `make truth` makes many more.
CHANGES = int(os.environ.get("JAMB_TRUTH_CHANGES", "150"))
Row = tuple[str, str, str, int, str, str, str, str, str]


@contextmanager
def rounds(world: World) -> Iterator[None]:
    """Let two processes look at what changed, all the while."""
    command = [sys.executable, "-m", "tests.oracle.rounds", world.cluster.url, SLUG]
    running = [subprocess.Popen(command, cwd=ROOT) for _ in range(2)]
    try:
        yield
        assert [one.poll() for one in running] == [None, None], "they looked until the end"
    finally:
        for one in running:
            one.kill()
            one.wait()


class Changes:
    """Everything that people change every day, at random, of a few clients."""

    def __init__(self, world: World, steward: Jamb, approver: Jamb) -> None:
        self.world, self.steward, self.approver = world, steward, approver
        self.dice, self.done = Random(41), 0
        self.clients = [self._made() for _ in range(8)]
        self.logins = [world.person(one)["login"] for one in (None, "pia", "maren", "steward")]

    def _made(self) -> Client:
        return self.steward.clients.register(
            unique("Changing"), "Changes all the time", kind=self.dice.choice(["service", "web"])
        )

    def one(self) -> None:
        """Make one change; what is refused is none."""
        chosen: Callable[[str], object] = self.dice.choice(
            [
                self.register,
                self.describe,
                self.own,
                self.disown,
                self.ask,
                self.consent,
                self.bound,
                self.end,
                self.issue,
                self.switch,
                self.withdraw,
                self.enable,
                self.disable,
                self.lend,
                self.take_back,
                self.vouch,
                self.trial,
                self.use,
            ]
        )
        try:
            chosen(self.dice.choice(self.clients).id)
        except (BadInput, Conflict, Forbidden, NotFound):
            return
        self.done += 1

    def register(self, _key: str) -> None:
        self.clients[self.dice.randrange(len(self.clients))] = self._made()

    def describe(self, key: str) -> None:
        host = self.dice.choice(["a.quillhaven.example", "elsewhere.example"])
        changes: dict[str, Any] = self.dice.choice(
            [
                {"purpose": self.dice.choice(["Cameras", "Tells the time"])},
                {"redirect_uris": [f"https://{host}/r"]},
                {"publisher": "maker.example"},
                {"name": unique(self.dice.choice(["Changed", "Chαnged"]))},
            ]
        )
        self.steward.clients.change(key, **changes)

    def own(self, key: str) -> None:
        self.steward.clients.change_owners(key, add=[self.dice.choice(self.logins)])

    def disown(self, key: str) -> None:
        self.steward.clients.change_owners(key, remove=[self.dice.choice(self.logins)])

    def ask(self, key: str) -> None:
        resource, names = self.dice.choice(
            [
                ("berths", ["berths.view", "berths.assign", "berths.manage"]),
                ("dispatches", ["dispatches.read"]),
                ("jamb", ["registry.read", "credentials.manage"]),
            ]
        )
        self.steward.asks.add(key, resource, [self.dice.choice(names)], reach=self._reach(resource))

    def _reach(self, resource: str) -> ReachSent | None:
        if resource == "jamb" and self.dice.random() < 0.7:
            return ReachSent(kind=ReachKind.ONLY, collections=[self.dice.choice(self.clients).id])
        if resource == "dispatches" and self.dice.random() < 0.5:
            return ReachSent(kind=self.dice.choice([ReachKind.ONLY, ReachKind.ALL_BUT]), collections=["board"])
        return None

    def consent(self, key: str) -> None:
        self.approver.consent.grant(key)

    def bound(self, key: str) -> None:
        reach = ReachSent(kind=ReachKind.ONLY, collections=["board"])
        self.approver.consent.change_reach(key, "dispatches", ["dispatches.read"], reach)

    def end(self, key: str) -> None:
        held = list(self.approver.consent.list(key))
        if held:
            chosen = self.dice.choice(held)
            self.approver.consent.withdraw(key, chosen.resource, [chosen.permission])

    def issue(self, key: str) -> None:
        self.steward.secrets.issue(key, days=self.dice.choice([3, 60, 180]))

    def switch(self, key: str) -> None:
        held = self.steward.credentials.list(key)
        if held:
            one = self.dice.choice(list(held))
            turn = self.steward.credentials.disable if self.dice.random() < 0.5 else self.steward.credentials.enable
            turn(key, one.id)

    def withdraw(self, key: str) -> None:
        held = self.steward.credentials.list(key)
        if held:
            self.steward.credentials.withdraw(key, self.dice.choice(list(held)).id)

    def enable(self, key: str) -> None:
        self.steward.clients.enable(key)

    def disable(self, key: str) -> None:
        self.steward.clients.disable(key, reason="For a while")

    def lend(self, key: str) -> None:
        ends = datetime.now(UTC) + timedelta(seconds=2) if self.dice.random() < 0.5 else None
        self.steward.roles.assign(self.dice.choice(["lookout", "auditor"]), HolderKind.CLIENT, [key], expires_at=ends)

    def take_back(self, key: str) -> None:
        self.steward.roles.withdraw(self.dice.choice(["lookout", "auditor"]), HolderKind.CLIENT, [key])

    def vouch(self, _key: str) -> None:
        if self.dice.random() < 0.5:
            self.steward.publishers.vouch("maker.example", reason="Known")
        else:
            self.steward.publishers.disown("maker.example")

    def trial(self, key: str) -> None:
        self.steward.clients.change(key, trial_ends_at=datetime.now(UTC) + timedelta(seconds=3))

    def use(self, key: str) -> None:
        """Let a secret have been used, at any time before."""
        with self.world.database() as database:
            database.execute(
                "update credential set last_used_at = now() - make_interval(days => %s) where client_id = %s",
                [self.dice.choice([0, 5, 8, 95]), key],
            )


def kept(backend: Backend) -> set[Row]:
    with Session(backend.engine) as session:
        rows = findings.findings_of(session, find_directory(session, SLUG).id)
        return {
            (
                one.rule,
                one.client_id,
                one.subject,
                one.severity,
                one.title,
                repr(sorted(one.evidence.items())),
                one.remedy,
                one.act,
                one.target,
            )
            for one, _ in rows
        }


def from_scratch(backend: Backend, now: datetime) -> set[Row]:
    with Session(backend.engine) as session:
        directory = find_directory(session, SLUG)
        loaded = pictures.load(session, directory.id, directory.policy, now)
        return {
            (
                one.rule,
                one.client_id,
                one.subject,
                int(one.severity),
                one.title,
                repr(sorted(one.evidence.items())),
                one.remedy,
                one.act.value,
                one.target,
            )
            for one in evaluate((one.picture for one in loaded), directory.policy, now)
        }


def test_what_is_kept_is_what_looking_at_all_finds_after_any_changes_and_rounds(world: World) -> None:
    backend = backend_of(world)
    try:
        with world.jamb("steward") as steward, world.jamb("approver") as approver:
            changes = Changes(world, steward, approver)
            with rounds(world):
                for number in range(1, CHANGES + 1):
                    changes.one()
                    if number % 250 == 0 or number == CHANGES:
                        agrees(backend)
            assert changes.done > CHANGES / 3, "most are done"
    finally:
        backend.engine.dispose()


def agrees(backend: Backend) -> None:
    """Wait until nothing is left to look at; then what is kept is right, whatever began or ended meanwhile."""
    deadline = time.monotonic() + PATIENCE
    while True:
        now = datetime.now(UTC)
        sweep(backend, SLUG, now)
        here, anew = kept(backend), from_scratch(backend, now)
        if here == anew:
            return
        assert time.monotonic() < deadline, f"too many {sorted(here - anew)[:4]}, missed {sorted(anew - here)[:4]}"
        time.sleep(0.2)
