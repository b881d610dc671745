"""A steward's work while strangers press in: at the sign-in, and with token requests that are refused.

In turns: quiet, and under pressure. Each stranger at the sign-in comes from an address of its own and tries again as
soon as it is answered; the token requests come at a steady rate.
"""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import AsyncIterator, Coroutine
from contextlib import asynccontextmanager
from dataclasses import dataclass, field
from multiprocessing import get_context
from multiprocessing.synchronize import Event
from statistics import median
from typing import Any

import httpx

from benchmarks import figures

STRANGERS, REFUSED_A_SECOND = 50, 200
ROUNDS, STEPS = 3, 15
TOO_LONG_SECONDS = 120
# Connections over which the refused token requests come.
ASKING = 20


@dataclass
class Seen:
    """What the steward waited for, in seconds, and what strangers were answered."""

    quiet: list[float] = field(default_factory=list)
    pressed: list[float] = field(default_factory=list)
    answers: Counter[str] = field(default_factory=Counter)


def measure(base_url: str, steward: dict[str, Any], client_id: str) -> list[str]:
    seen = Seen()
    with httpx.Client(base_url=base_url, timeout=60) as http:
        body = {"login": steward["login"], "password": steward["password"]}
        session = http.post("/api/v1/session", json=body).raise_for_status().json()
        http.headers["X-Jamb-CSRF"] = session["csrf"]
        here = f"/api/v1/directories/{session['directory']}"
        _work(http, here, client_id)
        for _ in range(ROUNDS):
            seen.quiet += _work(http, here, client_id)
            context = get_context("spawn")
            stop, told = context.Event(), context.Queue()
            crowd = context.Process(target=press, args=(base_url, session["directory"], stop, told))
            crowd.start()
            # Not before they are all there.
            told.get(timeout=TOO_LONG_SECONDS)
            seen.pressed += _work(http, here, client_id)
            stop.set()
            seen.answers.update(told.get(timeout=TOO_LONG_SECONDS))
            crowd.join()
    return _lines(seen)


def _work(http: httpx.Client, here: str, client_id: str) -> list[float]:
    """What a steward does: look at lists and a client, ask for a permission and drop it."""
    took = []
    for step in range(STEPS):
        for method, path in (
            ("GET", f"{here}/clients?limit=20"),
            ("GET", f"{here}/clients/{client_id}"),
            ("GET", f"{here}/requests"),
            ("POST", f"{here}/clients/{client_id}/state"),
        ):
            started = time.perf_counter()
            body = {"state": "disabled" if step % 2 else "live", "reason": "measured"} if method == "POST" else None
            answer = http.request(method, path, json=body)
            took.append(time.perf_counter() - started)
            assert answer.status_code in {200, 422, 409}, answer.text
    return took


def press(base_url: str, directory: str, stop: Event, told: Any) -> None:
    """Press in, in a process of its own, until told to stop; then tell how it was answered."""
    told.put(asyncio.run(_press(base_url, directory, stop, told)))


async def _press(base_url: str, directory: str, stop: Event, told: Any) -> Counter[str]:
    answers: Counter[str] = Counter()
    async with _all_of(
        [_stranger(base_url, number, stop, answers) for number in range(STRANGERS)]
        + [_refused(base_url, directory, stop, answers)]
    ):
        await asyncio.sleep(1.5)
        told.put("there")
        while not stop.is_set():  # noqa: ASYNC110 - it is set in another process
            await asyncio.sleep(0.05)
    return answers


@asynccontextmanager
async def _all_of(works: list[Any]) -> AsyncIterator[None]:
    tasks = [asyncio.create_task(work) for work in works]
    try:
        yield
    finally:
        await asyncio.gather(*tasks)


async def _stranger(base_url: str, number: int, stop: Event, answers: Counter[str]) -> None:
    transport = httpx.AsyncHTTPTransport(local_address=f"127.0.3.{number + 1}")
    async with httpx.AsyncClient(transport=transport, base_url=base_url, timeout=60) as http:
        while not stop.is_set():
            body = {"login": f"stranger{number}@quillhaven.example", "password": "nothing that fits"}
            answers[f"sign-in {await _status(http.post('/api/v1/session', json=body))}"] += 1


async def _refused(base_url: str, directory: str, stop: Event, answers: Counter[str]) -> None:
    """Ask over a few connections, each at its part of the rate, with as little work as may be."""
    host = base_url.removeprefix("http://")
    form = b"grant_type=client_credentials&client_id=nobody&client_secret=wrong"
    head = f"POST /d/{directory}/token HTTP/1.1\r\nHost: {host}\r\nContent-Length: {len(form)}\r\n"
    sent = head.encode() + b"Content-Type: application/x-www-form-urlencoded\r\n\r\n" + form

    async def ask() -> None:
        reader, writer = await asyncio.open_connection(*host.split(":"))
        due = time.perf_counter()
        while not stop.is_set():
            writer.write(sent)
            answer = await reader.readuntil(b"\r\n\r\n")
            length = int(answer.lower().partition(b"content-length:")[2].partition(b"\r")[0])
            await reader.readexactly(length)
            answers[f"token {answer[9:12].decode()}"] += 1
            due += ASKING / REFUSED_A_SECOND
            await asyncio.sleep(max(0.0, due - time.perf_counter()))
        writer.close()

    await asyncio.gather(*(ask() for _ in range(ASKING)))


async def _status(asked: Coroutine[Any, Any, httpx.Response]) -> str:
    try:
        return str((await asked).status_code)
    except httpx.TransportError as error:
        return type(error).__name__


def _lines(seen: Seen) -> list[str]:
    def at(values: list[float], share: float) -> float:
        return 1000 * sorted(values)[int(share * (len(values) - 1))]

    ratio = at(seen.pressed, 0.99) / at(seen.quiet, 0.99)
    figures.note("strangers", "p99 pressed over quiet", ratio)
    answers = ", ".join(f"{count} {name}" for name, count in sorted(seen.answers.items()))
    return [
        f"  {'':<10}{'p50 ms':>9}{'p99 ms':>9}{'mean ms':>9}",
        *(
            f"  {name:<10}{1000 * median(values):9.1f}{at(values, 0.99):9.1f}{1000 * sum(values) / len(values):9.1f}"
            for name, values in (("quiet", seen.quiet), ("pressed", seen.pressed))
        ),
        f"  p99 pressed / quiet {ratio:.2f}; {len(seen.quiet)} requests each, {ROUNDS} rounds; answered: {answers}",
    ]
