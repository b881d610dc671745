"""What guards cost the service while nothing is taken away: waiting, beside asking each second."""

from __future__ import annotations

import asyncio
import json
import os
import time
from pathlib import Path

import httpx

from benchmarks import figures
from benchmarks.load import children_cpu, cpu_of, idle
from jamb.guard import OwnToken
from jamb.guard.reach import PAUSE_SECONDS, WAIT_SECONDS

GUARDS = 100
SECONDS = 2 if os.environ.get("QUICK") else 30


def measure(home: Path, server: int, postmaster: int) -> list[str]:
    """Return the figures as lines: CPU of the service and of the database, for many guards of one resource."""
    own = json.loads((home / "guards.json").read_text())["berths"]
    with httpx.Client() as http:
        header = OwnToken(own["issuer"], own["api"], own["client_id"], own["client_secret"], http).header()
    asked = asyncio.run(_cost(own["api"], header, 0, server, postmaster))
    waited = asyncio.run(_cost(own["api"], header, WAIT_SECONDS, server, postmaster))
    figures.note("guards", "CPU of waiting over that of asking each second", sum(waited) / sum(asked))
    return [
        f"  {GUARDS} that {how:<16} service {of[0]:6.1%} of a core, database {of[1]:6.1%}"
        for how, of in (("ask each second", asked), ("wait", waited))
    ]


async def _cost(api: str, header: dict[str, str], wait: int, server: int, postmaster: int) -> tuple[float, float]:
    """Return which share of a core the service and its database use for the guards, without what they use anyway."""
    rest = idle(server, postmaster)
    limits = httpx.Limits(max_connections=GUARDS, max_keepalive_connections=GUARDS)
    async with httpx.AsyncClient(timeout=WAIT_SECONDS + 30, limits=limits, headers=header) as http:
        guards = [asyncio.create_task(_guard(http, f"{api}/revocations", wait, n / GUARDS)) for n in range(GUARDS)]
        # Until each has asked for the first time, and waits.
        await asyncio.sleep(5)
        before, began = (cpu_of(server), children_cpu(postmaster)), time.perf_counter()
        await asyncio.sleep(SECONDS)
        passed, after = time.perf_counter() - began, (cpu_of(server), children_cpu(postmaster))
        for guard in guards:
            guard.cancel()
        ended = await asyncio.gather(*guards, return_exceptions=True)
    assert all(isinstance(end, asyncio.CancelledError) for end in ended), ended
    return (after[0] - before[0]) / passed - rest[0], (after[1] - before[1]) / passed - rest[1]


async def _guard(http: httpx.AsyncClient, url: str, wait: int, later: float) -> None:
    await asyncio.sleep(later)
    headers: dict[str, str] = {}
    while True:
        began = time.perf_counter()
        answer = await http.get(url, params={"resource": "berths"}, headers=headers)
        if answer.status_code != httpx.codes.NOT_MODIFIED:
            answer.raise_for_status()
            headers = {"If-None-Match": answer.headers["ETag"], "Prefer": f"wait={wait}"}
        await asyncio.sleep(max(0.0, began + PAUSE_SECONDS - time.perf_counter()))
