"""Whoever runs a service: on an empty database, by the operator's commands."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import psycopg

from tests.warm import warm
from tests.world import World, answers, wait_until

OPEN = ["directories", "open", "alder", "--name", "Alder Works", "--domain", "alder.example"]
STEWARD = ["--steward", "Ines@alder.example", "--steward-name", "Ines Alder"]
PASSWORD = "a bridge over the weir"
CLIENT = {"name": "Sluice log", "purpose": "Keeps the log"}
HERE = "/api/v1/directories/alder"


@dataclass
class Operator:
    """Whoever runs a service: an empty database, a folder, a port."""

    home: Path
    port: int
    url: str
    settings: dict[str, str] = field(default_factory=dict)

    def environment(self, **settings: str) -> dict[str, str]:
        return {
            "PATH": os.environ["PATH"],
            "HOME": str(self.home.parent),
            "JAMB_HOME": str(self.home),
            "JAMB_PORT": str(self.port),
            "JAMB_DATABASE_URL": self.url,
            **self.settings,
            **settings,
        }

    def runs(self, *arguments: str, **settings: str) -> subprocess.CompletedProcess[str]:
        return warm("jamb-service").run(arguments, self.environment(**settings))

    @contextmanager
    def serving(self, ready: int = 200, **settings: str) -> Iterator[str]:
        log = self.home.parent / "log"
        process = warm("jamb-service").start(["serve"], self.environment(**settings), stdout=log, stderr=log)
        try:
            base = f"http://127.0.0.1:{self.port}"
            wait_until(lambda: answers(f"{base}/ready", ready))
            yield base
        finally:
            process.terminate()
            process.wait(timeout=15)


@contextmanager
def operating(world: World, folder: Path, port: int) -> Iterator[Operator]:
    """Yield an operator with an empty database, which is gone afterwards."""
    name = f"operated_{os.urandom(4).hex()}"
    with psycopg.connect(world.cluster.url, autocommit=True) as database:
        database.execute(f"create database {name}")
        try:
            yield Operator(folder / "home", port, world.cluster.url.rsplit("/", 1)[0] + f"/{name}")
        finally:
            database.execute(f"drop database if exists {name} with (force)")


def link_in(text: str) -> str:
    return next(word for word in text.split() if "/sign-in-link/" in word)


@contextmanager
def steward_of(base: str) -> Iterator[httpx.Client]:
    with httpx.Client(base_url=base, timeout=60) as http:
        body = {"login": "ines@alder.example", "password": PASSWORD}
        http.headers["X-Jamb-CSRF"] = http.post("/api/v1/session", json=body).raise_for_status().json()["csrf"]
        yield http


def opened(operator: Operator) -> str:
    told = operator.runs(*OPEN, *STEWARD)
    assert told.returncode == 0, told.stderr
    return link_in(told.stdout)


def client_in(console: httpx.Client, asks: list[str]) -> dict[str, str]:
    """Register a client that holds permissions at Jamb's own API; return what it asks tokens with."""
    made = console.post(f"{HERE}/clients", json=CLIENT).raise_for_status().json()
    ask = {"resource": "jamb", "permissions": asks, "kind": "application"}
    console.post(f"{HERE}/clients/{made['id']}/asks", json=ask).raise_for_status()
    console.post(f"{HERE}/clients/{made['id']}/consent", json={}).raise_for_status()
    issued = console.post(f"{HERE}/clients/{made['id']}/secrets", json={"days": 30}).raise_for_status().json()
    return {"grant_type": "client_credentials", "client_id": made["id"], "client_secret": issued["secret"]}


def token(base: str, form: dict[str, str], **more: str) -> str:
    answer = httpx.post(f"{base}/d/alder/token", data={**form, **more}, timeout=60).raise_for_status()
    return str(answer.json()["access_token"])
