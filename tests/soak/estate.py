"""Two services on one database of their own, behind a wire that can be held or cut; each may be killed at any time."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import psycopg

from jamb.demo.cluster import Cluster
from tests.faults.wire import Wire
from tests.operating import OPEN, PASSWORD, STEWARD, Operator, link_in
from tests.warm import Process, warm
from tests.world import answers, choose_password, wait_until

HERE = "/api/v1/directories/alder"


@dataclass
class Estate:
    """`bases`: where the two services are reached. Both are started again when they end."""

    cluster: Cluster
    wire: Wire
    operator: Operator
    bases: tuple[str, str]
    _running: dict[int, Process] = field(default_factory=dict)

    def start(self, number: int) -> None:
        port = self.operator.port + number
        log = self.operator.home.parent / f"service-{number}.log"
        settings = {"JAMB_PORT": str(port), "JAMB_PUBLIC_URL": self.bases[0], "JAMB_STATEMENT_SECONDS": "4"}
        given = self.operator.environment(**settings)
        self._running[number] = warm("jamb-service").start(["serve"], given, stdout=log, stderr=log)

    def kill(self, number: int, how: signal.Signals = signal.SIGKILL) -> None:
        """End a service, and start it again; a killed one leaves its connections to time and the database."""
        process = self._running[number]
        process.send_signal(how)
        process.wait(30)
        self.start(number)

    def stop(self) -> None:
        for process in self._running.values():
            process.terminate()
        for process in self._running.values():
            with suppress(Exception):
                process.wait(20)

    def restart_database(self) -> None:
        """As after a loss of power: nothing is shut down in order."""
        self.cluster.stop(mode="immediate")
        self.cluster.start()

    def end_connections(self) -> None:
        with psycopg.connect(self.cluster.url, autocommit=True) as database:
            database.execute("select pg_terminate_backend(pid) from pg_stat_activity where pid <> pg_backend_pid()")

    @contextmanager
    def connections_taken(self) -> Iterator[None]:
        """Leave no connection for anybody but those who have one."""
        taken = []
        try:
            with suppress(psycopg.OperationalError):
                for _ in range(200):
                    taken.append(psycopg.connect(self.cluster.url))
            yield
        finally:
            for one in taken:
                one.close()

    def signed_in(self, number: int) -> httpx.Client:
        """Return a caller who is signed in as the steward, at one of the services."""
        http = httpx.Client(base_url=self.bases[number], timeout=20)
        body = {"login": "ines@alder.example", "password": PASSWORD}
        http.headers["X-Jamb-CSRF"] = http.post("/api/v1/session", json=body).raise_for_status().json()["csrf"]
        return http


@contextmanager
def estate(folder: Path, port: int) -> Iterator[Estate]:
    """Begin with an empty cluster on `port + 2`; services are on `port` and `port + 1`."""
    cluster = Cluster(folder / "records", port + 2)
    cluster.stop(mode="immediate")
    cluster.start()
    with Wire("127.0.0.1", cluster.port) as wire:
        name = f"soak_{os.urandom(3).hex()}"
        with psycopg.connect(cluster.url, autocommit=True) as database:
            database.execute(f"create database {name}")
        url = cluster.url.replace(f":{cluster.port}/", f":{wire.port}/").rsplit("/", 1)[0] + f"/{name}"
        cluster_of_it = _Named(cluster.home, cluster.port, name)
        operator = Operator(folder / "home", port, url)
        bases = (f"http://127.0.0.1:{port}", f"http://127.0.0.1:{port + 1}")
        made = Estate(cluster_of_it, wire, operator, bases)
        opened = operator.runs(*OPEN, *STEWARD, JAMB_PUBLIC_URL=bases[0])
        assert opened.returncode == 0, opened.stderr
        with psycopg.connect(cluster_of_it.url, autocommit=True) as database:
            # One steward alone does all of this: what adds up of it is not what is tried here.
            database.execute(
                "update directory set policy = policy || jsonb_build_object("
                "'two_people_weight', 99999, 'two_approvers_weight', 100000)"
            )
        try:
            for number in (0, 1):
                made.start(number)
            for base in bases:
                wait_until(lambda base=base: answers(f"{base}/ready"))
            choose_password(link_in(opened.stdout), PASSWORD)
            yield made
        finally:
            wire.held.clear()
            made.stop()
            cluster.stop(mode="immediate")


@dataclass
class _Named(Cluster):
    """The cluster, by one of its databases."""

    database: str = ""

    @property
    def url(self) -> str:
        return super().url.rsplit("/", 1)[0] + f"/{self.database}"


def seconds_until(happened: object, most: float = 60.0) -> float:
    """Return how long something takes to be so."""
    assert callable(happened)
    started = time.monotonic()
    wait_until(happened, seconds=most)
    return time.monotonic() - started
