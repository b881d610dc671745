"""A soak: callers at work, one fault after the other, and at the end every line of the journal against the records."""

from __future__ import annotations

import random
import signal
import threading
import time
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path

import httpx
import psycopg
from sqlalchemy import text
from sqlalchemy.exc import OperationalError

from jamb.store.connections.bounded import Patience
from jamb.store.connections.engine import make_engine
from tests import patient
from tests.operating import HERE
from tests.soak.callers import Caller, Journal
from tests.soak.estate import Estate, estate, seconds_until
from tests.world import wait_until

CALLERS = 4
Fault = Callable[[Estate, random.Random], None]


def _killed(made: Estate, dice: random.Random) -> None:
    made.kill(dice.randrange(2))


def _both_killed(made: Estate, _: random.Random) -> None:
    made.kill(0)
    made.kill(1)


def _stopped(made: Estate, dice: random.Random) -> None:
    made.kill(dice.randrange(2), signal.SIGTERM)


def _database_restarted(made: Estate, _: random.Random) -> None:
    made.restart_database()


def _connections_ended(made: Estate, _: random.Random) -> None:
    made.end_connections()


def _connections_taken(made: Estate, dice: random.Random) -> None:
    with made.connections_taken():
        made.kill(dice.randrange(2))
        time.sleep(1 + 2 * dice.random())


def _hangs(made: Estate, dice: random.Random) -> None:
    made.wire.held.set()
    time.sleep(1 + 6 * dice.random())
    made.wire.held.clear()


def _away(made: Estate, dice: random.Random) -> None:
    made.wire.away.set()
    time.sleep(1 + 4 * dice.random())
    made.wire.away.clear()


def _cut_at_commit(made: Estate, dice: random.Random) -> None:
    made.wire.cut_at_commit += 1 + dice.randrange(4)
    time.sleep(1)


def _disk_full(made: Estate, dice: random.Random) -> None:
    if made.disk is None:
        # Whoever runs this may mount no disk of its own size.
        return
    with made.disk_filled():
        time.sleep(2 + 3 * dice.random())


FAULTS: dict[str, tuple[int, Fault]] = {
    "a service killed": (6, _killed),
    "both services killed": (1, _both_killed),
    "a service stopped": (1, _stopped),
    "the database restarted without order": (1, _database_restarted),
    "all connections ended": (2, _connections_ended),
    "all connections taken, a service killed": (1, _connections_taken),
    "the database hangs": (1, _hangs),
    "the database away": (1, _away),
    "cut at COMMIT": (3, _cut_at_commit),
    "the disk full": (1, _disk_full),
}


@dataclass
class Told:
    """What came of a soak. `back`: by fault, how long after its end each service took a token request and a change."""

    seconds: float = 0.0
    back: dict[str, list[float]] = field(default_factory=lambda: defaultdict(list))
    answers: Counter[str] = field(default_factory=Counter)
    clients: int = 0
    wrong: list[str] = field(default_factory=list)

    def lines(self) -> Iterator[str]:
        yield f"{self.seconds:.0f} s, {sum(map(len, self.back.values()))} faults, {self.clients} clients registered"
        yield "answers: " + ", ".join(f"{what} {count}" for what, count in sorted(self.answers.items()))
        for name, took in sorted(self.back.items()):
            yield f"{name}: {len(took)} times; good again after {sum(took) / len(took):.1f} s, at most {max(took):.1f} s"
        yield from (f"WRONG: {words}" for words in self.wrong[:40])
        yield f"{len(self.wrong)} wrong"


def lost_primary(folder: Path, port: int, seconds: float = 4, *, fronted: bool = False) -> Told:
    """Let callers work, lose the primary, promote its standby; return what was told and what is not so.

    However the two servers are named, the one that takes changes is found, before and after.
    """
    told, begun, journal = Told(), time.monotonic(), Journal()
    with estate(folder, port, with_standby=True, fronted=fronted) as made:
        with _working(made, journal, 5, threading.Event()):
            time.sleep(seconds)
            lost = list(_missed(made))
            if fronted:
                made.kill(0)
                told.back["a service killed"].append(seconds_until(lambda: all(map(_good, made.bases))))
                time.sleep(seconds)
            made.lose_the_primary()
            told.back["the primary lost, its standby promoted"].append(
                seconds_until(lambda: all(map(_good, made.bases)))
            )
            time.sleep(seconds / 2)
        told.wrong = [*lost, *_missed(made), *journal.faults, *_compared(made, journal)]
    told.seconds, told.answers, told.clients = time.monotonic() - begun, journal.answers, len(journal.clients)
    return told


def _missed(made: Estate) -> Iterator[str]:
    """Return the ways to name the servers that do not lead to the one that takes changes."""
    for spelling, url in made.spellings.items():
        engine = make_engine(url, Patience(4))
        try:
            with engine.connect() as connection:
                if connection.execute(text("show transaction_read_only")).scalar_one() != "off":
                    yield f"{spelling}: leads to a server that takes no changes"
        except OperationalError as error:
            yield f"{spelling}: {error}"
        finally:
            engine.dispose()


def soak(folder: Path, port: int, seconds: float, seed: int, faults: list[str] | None = None) -> Told:
    """Let callers work for a time while things break; return what was told and what is not so.

    Args:
        faults: these, in this order, and then by chance; None: by chance from the beginning.
    """
    dice, told, begun = random.Random(seed), Told(), time.monotonic()
    journal, stop = Journal(), threading.Event()
    with estate(folder, port) as made:
        with _working(made, journal, seed, stop):
            first = list(faults or ())
            names = [name for name, (weight, _) in FAULTS.items() for _ in range(weight)]
            while first or time.monotonic() - begun < seconds:
                name = first.pop(0) if first else dice.choice(names)
                time.sleep(0.3 + dice.random())
                FAULTS[name][1](made, dice)
                told.back[name].append(seconds_until(lambda: all(map(_good, made.bases))))
        told.wrong = journal.faults + _compared(made, journal)
    told.seconds, told.answers, told.clients = time.monotonic() - begun, journal.answers, len(journal.clients)
    return told


@contextmanager
def _working(made: Estate, journal: Journal, seed: int, stop: threading.Event) -> Iterator[None]:
    callers = [Caller(made, journal, 1000 * seed + number, stop) for number in range(CALLERS)]
    for one in callers:
        one.start()
    try:
        yield
    finally:
        stop.set()
        for one in callers:
            one.join(120)


def _good(base: str) -> bool:
    """Tell whether a service answers what reads the database and what changes nothing else."""
    try:
        ready = httpx.get(f"{base}/ready", timeout=3).status_code == 200
        form = {"grant_type": "client_credentials", "client_id": "nobody", "client_secret": "none"}
        return ready and httpx.post(f"{base}/d/alder/token", data=form, timeout=3).status_code in {401, 429}
    except httpx.TransportError:
        return False


def _compared(made: Estate, journal: Journal) -> list[str]:
    """Return what was acknowledged and is not so, or is so twice."""
    for base in made.bases:
        wait_until(lambda base=base: _good(base))
    wrong = []
    with psycopg.connect(made.cluster.url) as database:
        kept = dict(database.execute("select id, name from client where not builtin").fetchall())
        told = Counter(
            row[0]
            for row in database.execute(
                "select subject->>'client' from ledger_entry where action = 'client.registered'"
            ).fetchall()
        )
    for identity, name in journal.clients.items():
        if kept.get(identity) != name:
            wrong.append(f"the client {name} was acknowledged and is not there")
        if told[identity] != 1:
            wrong.append(f"the ledger tells {told[identity]} times that {name} was registered")
    names = Counter(kept.values())
    wrong += [f"{name} is there {count} times" for name, count in names.items() if count > 1]
    wrong += [
        f"{name} is in the records and not in the ledger" for identity, name in kept.items() if not told[identity]
    ]
    secrets = [(*one, {200}) for one in journal.standing] + [(*one, {401}) for one in journal.withdrawn]
    with ThreadPoolExecutor(4) as pool:
        wrong += [words for words in pool.map(lambda one: _proven(made, *one), secrets) if words]
    verified = made.operator.runs("verify", JAMB_PUBLIC_URL=made.doors[0], JAMB_DATABASE_URL=made.cluster.url)
    if verified.returncode:
        wrong.append(verified.stdout + verified.stderr)
    return wrong


def _proven(made: Estate, identity: str, secret: str, right: set[int]) -> str:
    form = {"grant_type": "client_credentials", "client_id": identity, "client_secret": secret}
    for base in made.bases:
        for _ in range(50):
            answer = patient.post(f"{base}/d/alder/token", data={**form, "resource": f"{made.doors[0]}{HERE}"})
            if answer.status_code not in {429, 503}:
                break
            time.sleep(float(answer.headers.get("Retry-After", "1")))
        if answer.status_code not in right:
            return (
                f"a secret of {identity} is answered {answer.status_code} at {base}, not {right}: {answer.text[:200]}"
            )
    return ""
