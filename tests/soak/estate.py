"""Two services on one database of their own, behind a wire that can be held or cut; each may be killed at any time."""

from __future__ import annotations

import os
import shutil
import signal
import ssl
import subprocess
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import psycopg

from jamb.demo.cluster import Cluster
from tests.beside import Pooler, pooling, proxied
from tests.operating import OPEN, PASSWORD, STEWARD, Operator, link_in
from tests.soak.standby import Standby, spellings, wait_for_it
from tests.warm import Process, warm
from tests.wire import Wire
from tests.world import answers, choose_password, wait_until

DISK_MEGABYTES = 400


@dataclass
class Named(Cluster):
    """The cluster, by one of its databases."""

    database: str = ""

    @property
    def url(self) -> str:
        return super().url.rsplit("/", 1)[0] + f"/{self.database}"


@dataclass
class Estate:
    """Attributes:
    bases: where the two services listen; both are started again when they end.
    doors: where callers reach them: each service, or the proxy before both; `verify`: how its certificate is taken.
    """

    cluster: Named
    wire: Wire
    operator: Operator
    bases: tuple[str, str]
    doors: tuple[str, ...]
    spellings: dict[str, str]
    settings: dict[str, str] = field(default_factory=dict)
    verify: ssl.SSLContext | bool = True
    standby: Standby | None = None
    pooler: Pooler | None = None
    disk: Path | None = None
    _running: dict[int, Process] = field(default_factory=dict)

    def start(self, number: int) -> None:
        port = self.operator.port + number
        log = self.operator.home.parent / f"service-{number}.log"
        settings = {"JAMB_PORT": str(port), "JAMB_PUBLIC_URL": self.doors[0], "JAMB_STATEMENT_SECONDS": "4"}
        given = self.operator.environment(**settings, **self.settings)
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

    def lose_the_primary(self) -> None:
        """The primary is gone for good, and the standby takes its place."""
        assert self.standby is not None
        self.cluster.stop(mode="immediate")
        self.standby.promote()
        self.cluster = Named(self.standby.home, self.standby.port, self.cluster.database)
        if self.pooler is not None:
            self.pooler.lead_to(self.cluster.url)

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

    @contextmanager
    def disk_filled(self) -> Iterator[None]:
        """Leave the database's disk no byte, also of what is freed meanwhile; at the end it is as large as before."""
        assert self.disk is not None
        over, ballast = threading.Event(), self.disk / "ballast"

        def fill() -> None:
            with ballast.open("wb", buffering=0) as file:
                while not over.is_set():
                    with suppress(OSError):
                        file.write(bytes(65_536))
                        continue
                    over.wait(0.05)

        filling = threading.Thread(target=fill)
        filling.start()
        try:
            wait_until(lambda: shutil.disk_usage(ballast.parent).free < 65_536)
            yield
        finally:
            over.set()
            filling.join()
            ballast.unlink()
            # Where there was no room for its log the server has stopped: whoever runs it starts it again.
            self.cluster.start()

    def signed_in(self, door: str) -> httpx.Client:
        """Return a caller who is signed in as the steward."""
        http = httpx.Client(base_url=door, timeout=60, verify=self.verify)
        body = {"login": "ines@alder.example", "password": PASSWORD}
        http.headers["X-Jamb-CSRF"] = http.post("/api/v1/session", json=body).raise_for_status().json()["csrf"]
        return http


@contextmanager
def disk_of_its_own(folder: Path) -> Iterator[Path | None]:
    """Mount a small disk at a folder. None where this user may not: then it is a folder as any."""
    folder.mkdir(parents=True, exist_ok=True)
    command = ["mount", "-t", "tmpfs", "-o", f"size={DISK_MEGABYTES}m,mode=755", "jamb-soak", str(folder)]
    if subprocess.run(command, capture_output=True, check=False).returncode:
        yield None
        return
    try:
        yield folder
    finally:
        subprocess.run(["umount", "-l", str(folder)], check=True)


@contextmanager
def estate(folder: Path, port: int, *, with_standby: bool = False, fronted: bool = False) -> Iterator[Estate]:
    """Begin with an empty cluster on `port + 2`; services are on `port` and `port + 1`.

    Args:
        with_standby: one is made on `port + 3` and has all that is acknowledged; else there is a wire to the database.
        fronted: a proxy with TLS stands before the services, and a pooler of transactions before the database.
    """
    with ExitStack() as stack:
        disk = stack.enter_context(disk_of_its_own(folder / "records"))
        cluster = Cluster(folder / "records", port + 2)
        cluster.stop(mode="immediate")
        cluster.start()
        stack.callback(cluster.stop, mode="immediate")
        wire = stack.enter_context(Wire("127.0.0.1", cluster.port))
        name = f"soak_{os.urandom(3).hex()}"
        with psycopg.connect(cluster.url, autocommit=True) as database:
            database.execute(f"create database {name}")
        url = cluster.url.replace(f":{cluster.port}/", f":{wire.port}/").rsplit("/", 1)[0] + f"/{name}"
        standby, ways = None, {}
        if with_standby:
            standby = Standby(folder / "standby", port + 3, cluster)
            standby.start()
            stack.callback(standby.stop, mode="immediate")
            wait_for_it(cluster)
            ways = spellings(cluster, standby, name)
            url = ways["an address that does not say which"]
        bases = (f"http://127.0.0.1:{port}", f"http://127.0.0.1:{port + 1}")
        named = Named(cluster.home, cluster.port, name)
        made = Estate(named, wire, Operator(folder / "home", port, url), bases, bases, ways, standby=standby, disk=disk)
        if fronted:
            made.pooler = stack.enter_context(pooling(named.url, port + 4))
            made.verify = stack.enter_context(proxied([port, port + 1], port + 5))
            made.doors = (f"https://127.0.0.1:{port + 5}",)
            made.settings = {
                "JAMB_DATABASE_URL": made.pooler.url,
                "JAMB_DATABASE_POOLED": "true",
                "JAMB_DIRECT_DATABASE_URL": url,
                "JAMB_TRUSTED_PROXIES": "127.0.0.1",
            }
        stack.callback(made.stop)
        stack.callback(wire.held.clear)
        opened = made.operator.runs(*OPEN, *STEWARD, JAMB_PUBLIC_URL=made.doors[0])
        assert opened.returncode == 0, opened.stderr
        with psycopg.connect(made.cluster.url, autocommit=True) as database:
            # One steward alone does all of this: what adds up of it is not what is tried here.
            database.execute(
                "update directory set policy = policy || jsonb_build_object("
                "'two_people_weight', 99999, 'two_approvers_weight', 100000)"
            )
        for number in (0, 1):
            made.start(number)
        for base in bases:
            wait_until(lambda base=base: answers(f"{base}/ready"))
        choose_password(link_in(opened.stdout).replace(made.doors[0], bases[0]), PASSWORD)
        yield made


def seconds_until(happened: object, most: float = 60.0) -> float:
    """Return how long something takes to be so."""
    assert callable(happened)
    started = time.monotonic()
    wait_until(happened, seconds=most)
    return time.monotonic() - started
