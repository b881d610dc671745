"""Callers who work all the time and write down what they were told: what was acknowledged must be so at the end."""

from __future__ import annotations

import random
import threading
import time
from collections import Counter
from dataclasses import dataclass, field
from typing import Any
from uuid import uuid4

import httpx

from tests.operating import HERE
from tests.soak.estate import Estate

# What may be answered while something is broken; whatever else is a fault of the service.
FINE = {200, 201, 204}
TROUBLE = {429, 503}
# An answer that does not come is asked for again, under the same key, for so long.
AGAIN_SECONDS = 90.0
# With a reserve for a busy machine: a statement is given four seconds, and a connection a few more.
LONGEST_SECONDS = 30.0


@dataclass
class Journal:
    """What was told to callers. Shared by all of them."""

    # Clients by id, with the name and the key under which they were asked for.
    clients: dict[str, str] = field(default_factory=dict)
    # Secrets that stand, and those that were withdrawn: (client, secret).
    standing: set[tuple[str, str]] = field(default_factory=set)
    withdrawn: set[tuple[str, str]] = field(default_factory=set)
    answers: Counter[str] = field(default_factory=Counter)
    faults: list[str] = field(default_factory=list)
    lock: threading.Lock = field(default_factory=threading.Lock)

    def note(self, what: str) -> None:
        with self.lock:
            self.answers[what] += 1

    def fault(self, words: str) -> None:
        with self.lock:
            self.faults.append(words)


class Caller(threading.Thread):
    """One who registers, issues, fetches tokens and withdraws, at whichever service answers."""

    def __init__(self, estate: Estate, journal: Journal, seed: int, stop: threading.Event) -> None:
        super().__init__(daemon=True)
        self.estate, self.journal, self.stopping = estate, journal, stop
        self.dice = random.Random(seed)
        self.https = [estate.signed_in(door) for door in estate.doors]
        self.mine: list[tuple[str, str, str]] = []

    def run(self) -> None:
        try:
            while not self.stopping.is_set():
                self._step()
        except Exception as error:  # noqa: BLE001 - told at the end, with all the others
            self.journal.fault(f"a caller gave up: {error!r}")
        finally:
            for http in self.https:
                http.close()

    def _step(self) -> None:
        if not self.mine or self.dice.random() < 0.2:
            self._register()
        elif self.dice.random() < 0.15:
            self._withdraw(*self.mine.pop(self.dice.randrange(len(self.mine))))
        else:
            self._fetch(*self.dice.choice(self.mine))

    def _register(self) -> None:
        name = f"Buoy {uuid4().hex[:12]}"
        made = self._done("POST", "/clients", {"name": name, "purpose": "Lies in the water"})
        if made is None:
            return
        identity = made["id"]
        with self.journal.lock:
            self.journal.clients[identity] = name
        wanted = {"resource": "jamb", "permissions": ["revocations.read"], "kind": "application", "reason": "soak"}
        asked = self._done("POST", f"/clients/{identity}/asks", wanted)
        granted = asked is not None and self._done("POST", f"/clients/{identity}/consent", {"reason": "soak"})
        issued = self._done("POST", f"/clients/{identity}/secrets", {"days": 30, "label": "soak"})
        # A secret that was made and whose answer was lost is shown to nobody: it stays unknown to the journal.
        if granted and issued is not None and "secret" in issued:
            secret, credential = issued["secret"], issued["credential"]["id"]
            with self.journal.lock:
                self.journal.standing.add((identity, secret))
            self.mine.append((identity, secret, credential))

    def _withdraw(self, identity: str, secret: str, credential: str) -> None:
        with self.journal.lock:
            # From now on either answer is right, until it is known.
            self.journal.standing.discard((identity, secret))
        path = f"/clients/{identity}/credentials/{credential}/withdrawal"
        if self._done("POST", path, {"reason": "soak"}) is not None:
            with self.journal.lock:
                self.journal.withdrawn.add((identity, secret))

    def _fetch(self, identity: str, secret: str, _credential: str) -> None:
        form = {"grant_type": "client_credentials", "client_id": identity, "client_secret": secret}
        answer = self._asked("POST", "/d/alder/token", data={**form, "resource": f"{self.estate.doors[0]}{HERE}"})
        if answer is not None and answer.status_code not in TROUBLE | FINE:
            self.journal.fault(f"token with a standing secret: {answer.status_code} {answer.text[:300]}")

    def _done(self, method: str, path: str, body: dict[str, Any]) -> dict[str, Any] | None:
        """Ask until it is known that it was done; return what was made, or None when the run ends before."""
        key, ends = str(uuid4()), time.monotonic() + AGAIN_SECONDS
        while time.monotonic() < ends:
            answer = self._asked(method, HERE + path, json=body, headers={"Idempotency-Key": key})
            if answer is not None and answer.status_code in FINE:
                found: dict[str, Any] = answer.json()
                return found
            if answer is not None and answer.status_code == 409 and answer.json()["type"].endswith(":done-before"):
                self.journal.note("done before")
                return dict(answer.json()["made"])
            if answer is not None and answer.status_code not in TROUBLE:
                self.journal.fault(f"{method} {path}: {answer.status_code} {answer.text[:300]}")
                return None
            time.sleep(0.1 + self.dice.random() / 5)
        self.journal.fault(f"{method} {path}: not known after {AGAIN_SECONDS:.0f} s")
        return None

    def _asked(self, method: str, path: str, **what: Any) -> httpx.Response | None:
        http = self.dice.choice(self.https)
        started = time.monotonic()
        try:
            answer = http.request(method, path, **what)
        except httpx.TransportError as error:
            self.journal.note(f"no answer ({type(error).__name__})")
            return None
        self._look(answer, method, path, time.monotonic() - started)
        return answer

    def _look(self, answer: httpx.Response, method: str, path: str, seconds: float) -> None:
        self.journal.note(str(answer.status_code))
        where = f"{method} {path}: {answer.status_code}"
        if answer.status_code >= 500 and answer.status_code != 503:
            self.journal.fault(f"{where} {answer.text[:300]}")
        if answer.status_code == 503 and not 1 <= int(answer.headers.get("Retry-After", "0")) <= 30:
            self.journal.fault(f"{where} without Retry-After")
        if answer.status_code >= 400 and not answer.json():
            self.journal.fault(f"{where} says nothing")
        if seconds > LONGEST_SECONDS:
            self.journal.fault(f"{where} took {seconds:.1f} s")
