"""Whoever runs a service: on an empty database, by the operator's commands."""

from __future__ import annotations

import os
import subprocess
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

import psycopg

from tests.warm import warm
from tests.world import World, answers, wait_until

OPEN = ["directories", "open", "alder", "--name", "Alder Works", "--domain", "alder.example"]
STEWARD = ["--steward", "Ines@alder.example", "--steward-name", "Ines Alder"]
PASSWORD = "a bridge over the weir"


@dataclass
class Operator:
    """Whoever runs a service: an empty database, a folder, a port."""

    home: Path
    port: int
    url: str

    def environment(self, **settings: str) -> dict[str, str]:
        return {
            "PATH": os.environ["PATH"],
            "HOME": str(self.home.parent),
            "JAMB_HOME": str(self.home),
            "JAMB_PORT": str(self.port),
            "JAMB_DATABASE_URL": self.url,
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
