"""The running demo as tests see it: people, clients, tokens, the stand-in API and the database, all over loopback."""

from __future__ import annotations

import json
import os
import secrets
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from uuid import UUID

import httpx
import psycopg

from jamb.client import AccessToken, ClientCredentials, Conflict, DeviceSignIn, Jamb
from jamb.core.clients.clients import ClientKind
from jamb.demo.cluster import Cluster
from tests import patient
from tests.patient import PATIENCE
from tests.warm import warm

ROOT = Path(__file__).parent.parent
# Each worker of a parallel run has a demo of its own: another folder, other ports.
WORKER = int(os.environ.get("PYTEST_XDIST_WORKER", "gw0").removeprefix("gw"))
HOME = ROOT / ".jamb-test" / str(WORKER)
PORT = int(os.environ.get("TESTS_PORT", "8540")) + 40 * WORKER
# How long tests share a sign-in: for some changes it must be of the last minutes.
SHARED_SECONDS = 240
BERTHS = "https://berths.quillhaven.example"


def never_synced(url: str) -> None:
    """Have a cluster leave its files to the machine's memory.

    No test cuts the power, and how fast a busy machine's disk is today is no property of the code.
    """
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("alter system set fsync = off")
        connection.execute("select pg_reload_conf()")


def choose_password(link: str, password: str) -> None:
    """Choose a password by a sign-in link, as its page does."""
    address, _, key = link.partition("#")
    base, identity = address.split("/sign-in-link/")
    sent = {"key": key, "password": password}
    httpx.post(f"{base}/api/v1/sign-in-links/{identity}/password", json=sent, timeout=60).raise_for_status()


def add_person(jamb: Jamb, login: str, name: str, password: str, roles: Sequence[str] = ()) -> None:
    """Add a person who chooses this password by the link that whoever adds them passes on."""
    jamb.people.add(login, name, roles=roles)
    choose_password(jamb.people.link(login).link, password)


def unique(name: str) -> str:
    return f"{name} {secrets.token_hex(4)}"


@dataclass(frozen=True)
class Made:
    """A client made for one test."""

    id: str
    name: str
    secret: str


class World:
    def __init__(self, home: Path, port: int) -> None:
        self.home, self.port = home, port
        self.demo: dict[str, Any] = json.loads((home / "demo.json").read_text())
        self.base_url: str = self.demo["base_url"]
        self.berths_url: str = self.demo["apis"]["berths"]["base_url"]
        self.cluster = Cluster(home, port + 2)
        self._tokens: dict[str, str] = {}
        self._sessions: dict[str, tuple[str, float]] = {}

    # People

    def person(self, role: str | None, directory: str = "quillhaven") -> dict[str, Any]:
        """Return the demo person with this role, or of this first name; None finds an owner who has no role."""
        for person in self.demo["people"]:
            if person["directory"] == directory and (
                role in person["roles"] or person["login"].startswith(f"{role}.") if role else not person["roles"]
            ):
                return person
        raise LookupError(role)

    @contextmanager
    def session(self, role: str | None, directory: str = "quillhaven", *, anew: bool = False) -> Iterator[httpx.Client]:
        """Yield an HTTP client signed in at the console as the person with this role.

        `anew`: for this test alone. A sign-in stretches a password, so the others share it for as long as it holds.
        """
        person = self.person(role, directory)
        with httpx.Client(base_url=self.base_url, timeout=PATIENCE) as http:
            answer = None if anew else self._shared(http, person["login"])
            if answer is None:
                body = {"login": person["login"], "password": person["password"]}
                answer = http.post("/api/v1/session", json=body).raise_for_status()
                if not anew:
                    self._sessions[person["login"]] = http.cookies["jamb_session"], time.monotonic()
            http.headers["X-Jamb-CSRF"] = answer.json()["csrf"]
            yield http

    def _shared(self, http: httpx.Client, login: str) -> httpx.Response | None:
        """Take up a sign-in of before, if it still holds."""
        cookie, since = self._sessions.get(login, ("", 0.0))
        if not cookie or time.monotonic() - since > SHARED_SECONDS:
            return None
        http.cookies.set("jamb_session", cookie, "127.0.0.1", "/")
        answer = http.get("/api/v1/session")
        if answer.is_success:
            return answer
        http.cookies.clear()
        return None

    def token(self, role: str | None, directory: str = "quillhaven", *, anew: bool = False) -> str:
        """Return a person's access token, fetched as the command line does: by the device grant."""
        key = f"{role}@{directory}"
        if anew or key not in self._tokens:
            started = DeviceSignIn.start(self.base_url, directory)
            started.interval_seconds = 0.05
            with self.session(role, directory) as http:
                body = {"user_code": started.user_code, "approve": True}
                http.post("/api/v1/devices/decision", json=body).raise_for_status()
            self._tokens[key], _ = started.wait()
        return self._tokens[key]

    def open_directory(self, slug: str) -> None:
        """Open a directory as the operator does; its steward is a demo person from now on."""
        domain, password = f"{slug}.example", "a password of the only steward's"
        login = f"steward@{domain}"
        words = ["directories", "open", slug, "--name", slug, "--domain", domain]
        told = self.operate(*words, "--steward", login, "--steward-name", "Only Steward")
        choose_password(told.split()[-1], password)
        self.demo["people"].append({"directory": slug, "login": login, "password": password, "roles": ["steward"]})

    def operate(self, *words: str) -> str:
        """Run a command of whoever runs the service; return what it prints."""
        environment = {
            "PATH": "/usr/bin:/bin",
            "JAMB_HOME": str(self.home),
            "JAMB_PUBLIC_URL": self.base_url,
            "JAMB_DATABASE_URL": self.cluster.url,
        }
        done = warm("jamb-service").run(words, environment, timeout=PATIENCE)
        assert done.returncode == 0, done.stderr
        return done.stdout

    def jamb(self, role: str | None = "steward", directory: str = "quillhaven") -> Jamb:
        """Return the client library, signed in as the person with this role."""
        return Jamb(self.base_url, directory, AccessToken(self.token(role, directory)))

    def agreed(self, call: Callable[[], Any], role: str = "approver") -> None:
        """Do what takes another person's yes: it waits at the consent desk, and this person agrees."""
        try:
            call()
        except Conflict as waits:
            if waits.code != "needs-agreement" or waits.made is None:
                raise
            with self.jamb(role) as other:
                decided = other.requests.grant(UUID(waits.made["id"]))
            if not decided.outcome.startswith(("done", "agreed")):
                raise

    def automation(self) -> Jamb:
        held = self.demo["automation"]
        auth = ClientCredentials(held["client_id"], held["client_secret"])
        return Jamb(self.base_url, held["directory"], auth)

    # Clients

    def client(
        self,
        *,
        asked: Sequence[str] = (),
        granted: Sequence[str] = (),
        secret: bool = True,
        days: int | None = None,
        resource: str = "berths",
        kind: str = "service",
    ) -> Made:
        """Register a client of the port with these permissions of Berths asked, or asked and granted."""
        with self.jamb() as jamb:
            made = jamb.clients.register(
                unique("Test client"), "Made by a test", kind=ClientKind(kind), owners=[self.person(None)["login"]]
            )
            # By its owner: whoever sees what a client proves itself with can act as it.
            value = ""
            if secret:
                with self.jamb(None) as owner:
                    value = owner.secrets.issue(made.id, days=days).secret
            if granted:
                jamb.asks.add(made.id, resource, list(granted))
                # Whoever asked may not consent to something heavy: the approver does.
                with self.jamb("approver") as approver:
                    approver.consent.grant(made.id)
            if asked:
                jamb.asks.add(made.id, resource, list(asked))
        return Made(made.id, made.name, value)

    # Tokens

    def token_endpoint(self, directory: str = "quillhaven") -> str:
        return f"{self.base_url}/d/{directory}/token"

    def ask_token(self, made: Made, **form: str) -> httpx.Response:
        """Ask for a token by client_secret_post, for Berths unless told otherwise."""
        sent = {
            "grant_type": "client_credentials",
            "client_id": made.id,
            "client_secret": made.secret,
            "resource": BERTHS,
            **form,
        }
        form = {key: value for key, value in sent.items() if value is not None}
        return patient.post(self.token_endpoint(), data=form)

    def call_berths(self, token: str, path: str = "/berths", method: str = "GET") -> httpx.Response:
        return patient.request(method, self.berths_url + path, headers={"Authorization": f"Bearer {token}"})

    def call_dispatches(
        self, token: str, path: str = "/mailboxes", method: str = "GET", json: Any = None
    ) -> httpx.Response:
        url: str = self.demo["apis"]["dispatches"]["base_url"]
        return patient.request(method, url + path, json=json, headers={"Authorization": f"Bearer {token}"})

    def failures(self, client_id: str) -> list[dict[str, Any]]:
        """Return the client's failed token requests, newest first, as an auditor reads them."""
        with self.jamb("auditor") as jamb:
            found = sorted(jamb.clients.attempts(client_id, failed=True), key=lambda one: one.at, reverse=True)
            return [one.model_dump(mode="json") for one in found]

    # The database, behind the service's back

    @contextmanager
    def database(self) -> Iterator[psycopg.Connection[Any]]:
        with psycopg.connect(self.cluster.url, autocommit=True) as connection:
            yield connection

    @contextmanager
    def second_process(self, port: int | None = None, **settings: str) -> Iterator[str]:
        """Start another service process on the same database; yield the address it listens on."""
        port = port or self.port + 7
        environment = {
            "PATH": "/usr/bin:/bin",
            "JAMB_HOME": str(self.home),
            "JAMB_PORT": str(port),
            "JAMB_PUBLIC_URL": self.base_url,
            "JAMB_DATABASE_URL": self.cluster.url,
            "JAMB_NOTICES_CRON": "0 0 1 1 *",
            **settings,
        }
        log = self.home / "second.log"
        process = warm("jamb-service").start(["serve"], environment, stdout=log, stderr=log)
        try:
            url = f"{'https' if 'JAMB_TLS_KEY' in settings else 'http'}://127.0.0.1:{port}"
            wait_until(lambda: answers(f"{url}/ready"))
            yield url
        finally:
            process.terminate()
            process.wait(timeout=15)


def answers(url: str, status: int = 200) -> bool:
    try:
        # What it is called is nothing to whoever waits for it.
        return httpx.get(url, timeout=2, verify=not url.startswith("https:")).status_code == status
    except httpx.TransportError:
        return False


def wait_until(happened: Any, seconds: float = PATIENCE) -> None:
    """Wait for something that happens in another process; fail if it does not."""
    ends = time.monotonic() + seconds
    while time.monotonic() < ends:
        if happened():
            return
        time.sleep(0.05)
    raise AssertionError(f"did not happen in {seconds} seconds: {happened}")
