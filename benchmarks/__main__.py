"""Run every benchmark on a demo of its own and print the figures, each beside its floor.

`JSON=file` names where the figures are kept (`.jamb-bench/figures.json`), `BASE=file` those of an earlier run to be
shown beside them.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from contextlib import contextmanager
from pathlib import Path
from statistics import median
from uuid import uuid4

import httpx
import jwt
from cryptography.hazmat.primitives.serialization import load_pem_private_key

from benchmarks import (
    administration,
    auditing,
    decisions,
    estate,
    figures,
    growth,
    guarding,
    notices,
    people,
    rotations,
    solver,
    strangers,
    watching,
)
from benchmarks.demo import HOME, PORT, demo, fresh
from benchmarks.load import Load, burst, burst_of, cpu_of, machine_cpu
from benchmarks.solver import LIMIT_SECONDS
from jamb.client import ClientCredentials, Jamb
from jamb.core.credentials.urns import CLIENT_ASSERTION
from jamb.demo.cluster import Cluster

ROUNDS, REQUESTS, CONNECTIONS = 7, 2000, 8
AUDITED = 10_000
BERTHS = "https://berths.quillhaven.example"


def main(*only: str) -> None:
    """Run the named parts, or all, on one demo; each prints as it finishes."""
    unknown = set(only) - PARTS.keys()
    if unknown:
        sys.exit(f"There is no part {', '.join(sorted(unknown))}; there are {', '.join(PARTS)}.")
    earlier = os.environ.get("BASE", "")
    base = figures.read(Path(earlier)) if earlier else None
    fresh()
    wanted = [PARTS[name] for name in only or PARTS]
    if not only:
        print("Start of the demo, everything installed (seconds until ready)")
        with demo() as first:
            print(f"  first run, database and records made   {first:6.1f}", flush=True)
    with demo() as second:
        if not only:
            print(f"  second run                             {second:6.1f}", flush=True)
        for part in wanted:
            part()
            sys.stdout.flush()
    kept = Path(os.environ.get("JSON") or HOME / "figures.json")
    figures.keep(kept)
    print(f"\nThe figures are kept in {kept}")
    if base is not None:
        print(f"\nBeside {earlier} (*: more than {figures.NOISE:.0%} apart)")
        print("\n".join(figures.beside(base)))


def noticed() -> None:
    """Notices of very many credentials."""
    print(f"\nNotices for {notices.CREDENTIALS:,} credentials that expire, of {notices.PEOPLE:,} owners")
    print("\n".join(notices.measure(Cluster(HOME, PORT + 2).url, HOME, PORT)))


def decided() -> None:
    """Decisions in core alone."""
    print("\nDecisions in core, calls a second of CPU time")
    for name, rate in decisions.measure().items():
        print(f"  {name:<20} {rate:10,.0f}")
        figures.note("decisions", f"{name} a second", rate)


def guarded() -> None:
    """A guard's checks alone, and what guards cost the service."""
    print("\nChecks of a guard, calls a second of CPU time")
    print("\n".join(guarding.measure()))
    postmaster = int((HOME / "postgres" / "postmaster.pid").read_text().splitlines()[0])
    print("\nGuards to whom there is nothing to tell")
    print("\n".join(watching.measure(HOME, serving(PORT), postmaster)))


def pressed() -> None:
    """A steward beside strangers who press in."""
    made_up = json.loads((HOME / "demo.json").read_text())
    steward = next(one for one in made_up["people"] if "steward" in one["roles"])
    held = made_up["automation"]
    with Jamb(made_up["base_url"], "quillhaven", ClientCredentials(held["client_id"], held["client_secret"])) as jamb:
        client = jamb.clients.register(f"Bench {time.time():.0f}", "Is looked at", owners=[])
    print(
        f"\nA steward's requests, one after the other, beside {strangers.STRANGERS} strangers at the sign-in and "
        f"{strangers.REFUSED_A_SECOND} refused token requests a second"
    )
    print("\n".join(strangers.measure(made_up["base_url"], steward, client.id)))


def estates() -> None:
    """A large directory: in core alone, and over the API beside one bare indexed read."""
    grants = estate.CLIENTS * estate.GRANTS_EACH
    print(f"\nA directory of {estate.PERMISSIONS:,} permissions, {estate.CLIENTS:,} clients, {grants:,} grants")
    made = estate.made_up()
    for name, value in estate.decisions(made).items():
        print(f"  {name:<36} {value:12,.2f}")
    estate.load(Cluster(HOME, PORT + 2).url, made)
    held = json.loads((HOME / "demo.json").read_text())
    automation = held["automation"]
    form = {"grant_type": "client_credentials", "resource": automation["resource"]}
    auth = (automation["client_id"], automation["client_secret"])
    token = httpx.post(automation["token_endpoint"], data=form, auth=auth).raise_for_status().json()["access_token"]
    headers = {"Authorization": f"Bearer {token}"}
    print(f"\nThe audit of a directory of {AUDITED:,} clients")
    print("\n".join(auditing.measure(Cluster(HOME, PORT + 2).url, HOME, PORT, AUDITED)))
    with floor() as pid:
        lines = estate.over_the_api(held["base_url"], f"http://127.0.0.1:{PORT + 5}", headers, serving(PORT), pid)
    print("\n".join(lines))


def administrations() -> None:
    """What a steward reads in a large directory."""
    clients = int(os.environ.get("CLIENTS", AUDITED))
    url = Cluster(HOME, PORT + 2).url
    postmaster = int((HOME / "postgres" / "postmaster.pid").read_text().splitlines()[0])
    slug = administration.estate(url, HOME, PORT, clients)
    print(f"\nReads of a steward in a directory of {clients:,} clients, beside a bare route with one indexed read")
    with floor() as pid:
        base = json.loads((HOME / "demo.json").read_text())["base_url"]
        for line in administration.measure(base, slug, serving(PORT), f"http://127.0.0.1:{PORT + 5}", pid, postmaster):
            print(line, flush=True)


def grown() -> None:
    """What tokens, reads, rounds and storage come to in directories of several sizes."""
    print(f"\nHow cost grows: directories of {', '.join(f'{size:,}' for size in growth.SIZES)} clients")
    url, base = Cluster(HOME, PORT + 2).url, json.loads((HOME / "demo.json").read_text())["base_url"]
    postmaster = int((HOME / "postgres" / "postmaster.pid").read_text().splitlines()[0])
    for line in growth.measure(url, HOME, PORT, base, serving(PORT), postmaster):
        print(line, flush=True)


def proposals() -> None:
    """The solver alone, in this process."""
    print(
        f"\nSmallest permissions, random catalogues, needs of 3 to 15 operations (limit {LIMIT_SECONDS * 1000:.0f} ms)"
    )
    print(f"  {'permissions':>11}{'operations':>12}{'exact in time':>15}{'median ms':>11}{'worst gap':>11}")
    for one in solver.measure():
        figures.note("proposals", f"{one.permissions} permissions, {one.operations} operations, exact", one.share)
        gap = f"{one.worst_gap:.0%}" if one.worst_gap else "none"
        print(f"  {one.permissions:11}{one.operations:12}{one.share:15.0%}{one.median_ms:11.2f}{gap:>11}")


def tokens() -> None:
    """Tokens by client credentials against the floor, in turns, so that a drift of the machine meets both."""
    made_up = json.loads((HOME / "demo.json").read_text())
    held = made_up["automation"]
    with Jamb(made_up["base_url"], "quillhaven", ClientCredentials(held["client_id"], held["client_secret"])) as jamb:
        client = jamb.clients.register(f"Bench {time.time():.0f}", "Fetches tokens", owners=[])
        jamb.asks.add(client.id, "berths", ["berths.assign"])
        jamb.consent.grant(client.id)
        secret = jamb.secrets.issue(client.id).secret
        made = jamb.credentials.make_certificate(client.id)
    key = load_pem_private_key(made.private_key.encode(), made.passphrase.encode())
    issuer, common = made_up["directories"]["quillhaven"]["issuer"], {"resource": BERTHS, "client_id": client.id}

    def by_secret() -> dict[str, str]:
        return {"grant_type": "client_credentials", "client_secret": secret, **common}

    def by_key() -> dict[str, str]:
        claims = {"iss": client.id, "sub": client.id, "aud": issuer, "jti": uuid4().hex, "exp": int(time.time()) + 900}
        signed = jwt.encode(claims, key, "ES256", headers={"kid": made.credential.key_ids[0]})  # type: ignore[arg-type]
        proof = {"client_assertion_type": CLIENT_ASSERTION, "client_assertion": signed}
        return {"grant_type": "client_credentials", **proof, **common}

    postmaster = int((HOME / "postgres" / "postmaster.pid").read_text().splitlines()[0])
    service = serving(PORT)
    with floor() as floor_process:
        targets = {
            "floor": (f"http://127.0.0.1:{PORT + 5}/d/quillhaven/token", floor_process, by_secret),
            "secret": (f"{made_up['base_url']}/d/quillhaven/token", service, by_secret),
            "key": (f"{made_up['base_url']}/d/quillhaven/token", service, by_key),
        }
        for url, pid, forms in targets.values():
            burst(url, forms, 1000, CONNECTIONS, pid, postmaster)
        machine, own, started = machine_cpu(), os.times(), time.perf_counter()
        seen: dict[str, list[Load]] = {name: [] for name in targets}
        for _ in range(ROUNDS):
            for name, (url, pid, forms) in targets.items():
                seen[name].append(burst(url, forms, REQUESTS, CONNECTIONS, pid, postmaster))
        wall = time.perf_counter() - started
        ours = sum(one.requests * (one.server_cpu + one.database_cpu) for runs in seen.values() for one in runs)
        ours += sum(os.times()[:2]) - sum(own[:2])
        others = max(0.0, machine_cpu() - machine - ours) / wall
        two = two_processes(targets["secret"][0], by_secret, service, postmaster)
    _table(seen)
    print(f"  {CONNECTIONS} connections, {ROUNDS} rounds of {REQUESTS}; others took {others:.2f} cores of the machine")
    print("\n".join(two))


def for_people() -> None:
    """Codes, refresh tokens and questions about tokens, beside the same floor."""
    made_up = json.loads((HOME / "demo.json").read_text())
    postmaster = int((HOME / "postgres" / "postmaster.pid").read_text().splitlines()[0])
    print(
        f"\nTokens for people, {people.CONNECTIONS} connections, {people.ROUNDS} rounds of {people.REQUESTS} "
        "(medians; CPU over the floor round by round)"
    )
    with floor() as pid:
        url = f"http://127.0.0.1:{PORT + 5}/d/quillhaven/token"
        print("\n".join(people.measure(made_up, url, pid, serving(PORT), postmaster)))


def two_processes(url: str, forms: Callable[[], dict[str, str]], service: int, postmaster: int) -> list[str]:
    """One service process and two on the same database, by turns, under the same load."""
    environment = {
        **os.environ,
        "JAMB_HOME": str(HOME),
        "JAMB_PORT": str(PORT + 7),
        "JAMB_PUBLIC_URL": f"http://127.0.0.1:{PORT}",
        "JAMB_DATABASE_URL": Cluster(HOME, PORT + 2).url,
        "JAMB_NOTICES_CRON": "0 0 1 1 *",
    }
    second = subprocess.Popen(
        [sys.executable, "-m", "jamb.service", "serve"], env=environment, stderr=subprocess.DEVNULL
    )
    other = url.replace(f":{PORT}/", f":{PORT + 7}/")
    try:
        while not _answers(f"http://127.0.0.1:{PORT + 7}/ready"):
            time.sleep(0.1)
        burst(other, forms, 1000, CONNECTIONS, second.pid, postmaster)
        one: list[Load] = []
        both: list[tuple[float, float]] = []
        for _ in range(ROUNDS):
            one.append(burst(url, forms, REQUESTS, CONNECTIONS, service, postmaster))
            # A load of its own for each, in a process of its own: one alone could not keep two busy.
            with ProcessPoolExecutor(2) as pool:
                started = time.perf_counter()
                halves = [
                    pool.submit(burst_of, place, forms(), REQUESTS, CONNECTIONS // 2, pid, postmaster)
                    for place, pid in ((url, service), (other, second.pid))
                ]
                ends = [half.result() for half in halves]
                both.append((2 * REQUESTS / (time.perf_counter() - started), max(end.p99 for end in ends)))
    finally:
        second.terminate()
        second.wait(timeout=20)
    alone = median(run.requests / run.wall for run in one)
    together = median(rate for rate, _ in both)
    said = (
        f"  one process: {alone:.0f} tokens a second by secret, p99 {1000 * median(run.p99 for run in one):.1f} ms; "
        f"two on one database: {together:.0f}, p99 {1000 * median(p99 for _, p99 in both):.1f} ms "
        f"({together / alone:.2f} times, on {os.cpu_count()} cores that also carry database and load)"
    )
    return [said]


def _answers(url: str) -> bool:
    try:
        return httpx.get(url).is_success
    except httpx.TransportError:
        return False


def rotating() -> None:
    """Open rotations by the command line, as a bulk run does, and kill it now and then."""
    made_up = json.loads((HOME / "demo.json").read_text())
    held = made_up["automation"]
    print("\nRotations in bulk, by `jamb rotate open-all`")
    url = Cluster(HOME, PORT + 2).url
    print("\n".join(rotations.measure(url, made_up["base_url"], held["client_id"], held["client_secret"])))


def _table(seen: dict[str, list[Load]]) -> None:
    print("\nTokens by client credentials, one service process, beside the floor (medians of the rounds)")
    print(f"  {'':<8}{'CPU ms':>9}{'database CPU ms':>17}{'a second':>10}{'p50 ms':>8}{'p99 ms':>8}")
    for name, runs in seen.items():
        values = (
            1000 * median(one.server_cpu for one in runs),
            1000 * median(one.database_cpu for one in runs),
            median(one.requests / one.wall for one in runs),
            1000 * median(one.p50 for one in runs),
            1000 * median(one.p99 for one in runs),
        )
        print(f"  {name:<8}{values[0]:9.3f}{values[1]:17.3f}{values[2]:10.0f}{values[3]:8.2f}{values[4]:8.2f}")
    for name in ("secret", "key"):
        ratios = [token.server_cpu / base.server_cpu for token, base in zip(seen[name], seen["floor"], strict=True)]
        span = f"{min(ratios):.2f} to {max(ratios):.2f}"
        print(f"  CPU of a token by {name} over the floor, round by round: median {median(ratios):.2f}, {span}")
        figures.note("tokens", f"CPU by {name} over the floor", median(ratios))


@contextmanager
def floor() -> Iterator[int]:
    """Start the floor beside the service; yield its process id."""
    environment = {**os.environ, "FLOOR_DATABASE_URL": Cluster(HOME, PORT + 2).url}
    process = subprocess.Popen([sys.executable, "-m", "benchmarks.floor", str(PORT + 5)], env=environment)
    try:
        for _ in range(200):
            try:
                httpx.get(f"http://127.0.0.1:{PORT + 5}/")
                break
            except httpx.TransportError:
                time.sleep(0.05)
        yield process.pid
    finally:
        process.terminate()
        process.wait(timeout=20)


def serving(port: int) -> int:
    """Return the process that serves the demo's API: the youngest whose environment has this port and that serves."""
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                command = (entry / "cmdline").read_bytes()
                environment = (entry / "environ").read_bytes()
            except OSError:
                continue
            if b"jamb.service" in command and f"JAMB_PORT={port}\0".encode() in environment:
                assert cpu_of(int(entry.name)) > 0
                return int(entry.name)
    raise SystemExit("the service is not running")


PARTS: dict[str, Callable[[], None]] = {
    "tokens": tokens,
    "people": for_people,
    "strangers": pressed,
    "rotations": rotating,
    "administration": administrations,
    "growth": grown,
    "notices": noticed,
    "audit": estates,
    "decisions": decided,
    "guards": guarded,
    "proposals": proposals,
}


if __name__ == "__main__":
    main(*sys.argv[1:])
