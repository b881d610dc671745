"""Start everything the demo needs, say where to look, and stop it all on Ctrl-C."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from datetime import UTC, datetime
from pathlib import Path
from types import FrameType
from typing import Any

import httpx
import jwt
import psycopg
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, generate_private_key
from sqlalchemy.exc import SQLAlchemyError

from jamb.actions.base.backend import Backend
from jamb.actions.directory.directories import refresh_own_api
from jamb.client.base.trust import trusted
from jamb.core.errors import JambError, WorldFailure
from jamb.demo.cluster import Cluster, free_port, make_home
from jamb.demo.home import demo_home
from jamb.demo.load import load, scenario_present
from jamb.service.config.sealing import sealer_for
from jamb.service.config.settings import Settings, read_settings
from jamb.store.base.migrate import migrate
from jamb.store.connections.engine import make_engine
from jamb.store.connections.outages import outage_of

# While the process lives: a slow machine takes its time.
_READY_SECONDS = 240


class DemoFailed(WorldFailure):
    code = "demo-failed"


class _Stop(Exception):
    """Ctrl-C, or a polite kill."""


def run() -> None:
    """Entry point of `make demo`. Every failure is a sentence."""
    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, _stop)
    try:
        _run(read_settings())
    except _Stop:
        sys.exit(0)
    except JambError as error:
        sys.exit(f"\nThe demo did not start: {error.message} {error.next_step}".rstrip())


def _run(settings: Settings) -> None:
    started = time.monotonic()
    home = demo_home(settings)
    make_home(home)
    settings.home = home
    stand_in_port, smtp_port = settings.port + 1, settings.port + 3
    with ExitStack() as stack:
        _need_ports(settings.port, stand_in_port, smtp_port)
        with _step("database"):
            database = _database(settings, home, stack)
        with _step("schema"):
            migrate(make_engine(database))
        engine = make_engine(database)
        backend = Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url, clock=None)
        with _step("scenario"):
            refresh_own_api(backend, datetime.now(UTC))
            _scenario(backend, home, f"http://127.0.0.1:{stand_in_port}")
        backend.engine.dispose()
        environment = {**os.environ, "JAMB_HOME": str(home), "JAMB_DATABASE_URL": database}
        # A desk on this machine may be a webhook, or publish keys, for trying it.
        environment.setdefault("JAMB_INNER_HOSTS", "127.0.0.1")
        # Passkeys belong to a name; the console answers by it, too.
        environment.setdefault("JAMB_PASSKEY_HOST", "localhost")
        environment.setdefault("JAMB_HOSTS", f"localhost:{settings.port}")
        environment.setdefault("JAMB_SMTP_URL", f"smtp://127.0.0.1:{smtp_port}")
        # The stand-ins first: the service has mails for the mailbox as soon as it runs.
        command = [sys.executable, "-m", "jamb.demo.stand_ins", str(stand_in_port), str(smtp_port)]
        stand_ins = _start(stack, "stand-ins", command, home, environment)
        with _step("service"):
            service = _start(stack, "service", [sys.executable, "-m", "jamb.service", "serve"], home, environment)
            _await(f"{settings.base_url}/ready", service, home / "service.log")
        with _step("stand-in APIs"):
            # Their guards began before the service: a token of no key is answered 503 until they know its keys.
            bearer = {"Authorization": f"Bearer {_of_no_key()}"}
            _await(f"http://127.0.0.1:{stand_in_port}/berths", stand_ins, home / "stand-ins.log", bearer, status=401)
        _announce(home, time.monotonic() - started)
        _watch({"service": service, "stand-in APIs": stand_ins}, home)


def _database(settings: Settings, home: Path, stack: ExitStack) -> str:
    """Return the URL of a database that answers: the given one, or that of our own cluster."""
    if settings.database_url is not None:
        url = settings.database_url.get_secret_value()
        try:
            psycopg.connect(url, connect_timeout=3).close()
        except psycopg.Error as error:
            raise DemoFailed(
                "The database of JAMB_DATABASE_URL does not answer.",
                next_step="Start it, correct the URL, or leave the setting out to have one started here.",
            ) from error
        return url
    cluster = Cluster(home, settings.port + 2)
    if cluster.start():
        stack.callback(cluster.stop)
    return cluster.url


def _scenario(backend: Backend, home: Path, stand_in_url: str) -> None:
    file = home / "demo.json"
    if not scenario_present(backend):
        load(backend, home, stand_in_url, datetime.now(UTC))
        return
    if not file.exists():
        raise DemoFailed(
            f"The database has the demo's records, but {file} with their passwords is gone.",
            next_step=f"Remove {home} (or empty the database) and start again: the records are made anew.",
        )
    made_for = json.loads(file.read_text())["base_url"]
    if made_for != backend.base_url:
        raise DemoFailed(
            f"These demo records were made for {made_for}, and tokens name that address.",
            next_step=f"Start with that port, or set JAMB_HOME to another folder for {backend.base_url}.",
        )


def _need_ports(*ports: int) -> None:
    for port in ports:
        if not free_port(port):
            raise DemoFailed(
                f"Port {port} is in use.",
                next_step="Stop what uses it (another demo, perhaps), or set JAMB_PORT to another number.",
            )


def _start(
    stack: ExitStack, name: str, command: list[str], home: Path, environment: dict[str, str]
) -> subprocess.Popen[bytes]:
    """Start a program whose output goes to a log; it is stopped when the stack closes."""
    log = stack.enter_context(os.fdopen(_private(home / f"{name}.log"), "ab"))
    # A session of its own: Ctrl-C reaches us alone, and we stop the parts in order.
    process = subprocess.Popen(
        command, env=environment, stdin=subprocess.DEVNULL, stdout=log, stderr=log, start_new_session=True
    )
    stack.callback(_end, process)
    return process


def _private(path: Path) -> int:
    return os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND, 0o600)


def _end(process: subprocess.Popen[bytes]) -> None:
    process.terminate()
    try:
        process.wait(timeout=10)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()


def _of_no_key() -> str:
    """Return what has the form of an access token (RFC 9068 section 2.1), by a key that nobody publishes."""
    return jwt.encode({}, generate_private_key(SECP256R1()), "ES256", {"typ": "at+jwt", "kid": "none"})


def _await(
    url: str, process: subprocess.Popen[bytes], log: Path, headers: dict[str, str] | None = None, status: int = 200
) -> None:
    ends = time.monotonic() + _READY_SECONDS
    with httpx.Client(timeout=2, verify=trusted(url)) as http:
        while time.monotonic() < ends:
            if process.poll() is not None:
                tail = log.read_text(errors="replace").strip().splitlines()[-1:]
                raise DemoFailed(f"It stopped at once: {' '.join(tail)[:300]}", next_step=f"See {log}.")
            try:
                if http.get(url, headers=headers).status_code == status:
                    return
            except httpx.TransportError:
                pass
            time.sleep(0.05)
    raise DemoFailed(f"{url} did not become ready in {_READY_SECONDS} seconds.", next_step=f"See {log}.")


def _watch(parts: dict[str, subprocess.Popen[bytes]], home: Path) -> None:
    while True:
        for name, process in parts.items():
            if process.poll() is not None:
                raise DemoFailed(
                    f"The {name} stopped (exit {process.returncode}).", next_step=f"See the logs in {home}."
                )
        time.sleep(0.5)


def _announce(home: Path, seconds: float) -> None:
    demo: dict[str, Any] = json.loads((home / "demo.json").read_text())
    width = max(len(person["login"]) for person in demo["people"])
    stand_ins = demo["apis"]["berths"]["base_url"]
    lines = [
        "",
        f"Jamb is ready ({seconds:.1f} s).",
        "",
        f"  Console        {demo['base_url']}/",
        f"  Passkeys       http://localhost:{demo['base_url'].rpartition(':')[2]}/ (they belong to a name)",
        f"  Command line   .venv/bin/jamb sign-in --url {demo['base_url']} --directory quillhaven",
        f"  Berths API     {stand_ins}/berths (a stand-in that really checks tokens)",
        f"  Dispatches API {demo['apis']['dispatches']['base_url']}/mailboxes (another, whose mailboxes reach bounds)",
        f"  Mailbox        {stand_ins}/mailbox (a stand-in: every notice by mail)",
        f"  Watch          {stand_ins}/watch (a tablet that people sign in to, also by a code on another device)",
        f"  Pilot roster   {stand_ins}/roster (a web application that people sign in to)",
        f"  Berth kiosk    {stand_ins}/kiosk (a page alone in a browser)",
        f"  All values     {home / 'demo.json'}",
        "",
        "Sign in as",
        *(
            f"  {person['login']:<{width}}  {person['password']:<26} {', '.join(person['roles']) or 'no role'}"
            for person in demo["people"]
        ),
        "",
        "Ctrl-C stops everything.",
    ]
    print("\n".join(lines), flush=True)


@contextmanager
def _step(name: str) -> Iterator[None]:
    print(f"  {name:<22}", end="", flush=True)
    started = time.monotonic()
    try:
        yield
    except SQLAlchemyError as error:
        if outage_of(error) is None:
            raise
        raise DemoFailed("The database stopped answering.", next_step="Start again.") from error
    print(f" {time.monotonic() - started:5.1f} s", flush=True)


def _stop(_number: int, _frame: FrameType | None) -> None:
    raise _Stop


if __name__ == "__main__":
    run()
