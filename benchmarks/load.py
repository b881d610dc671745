"""A light load: a few kept connections, each with one request at a time; and what it cost the other side."""

from __future__ import annotations

import asyncio
import os
import time
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from urllib.parse import urlencode, urlsplit

TICKS = os.sysconf("SC_CLK_TCK")
IDLE_SECONDS = 1 if os.environ.get("QUICK") else 10


@dataclass(frozen=True)
class Load:
    """What one burst showed. Times in seconds; CPU per request of the serving process and of the database.

    What both use while nobody asks, as they did before it for guards and rounds, is not counted.
    """

    requests: int
    wall: float
    server_cpu: float
    database_cpu: float
    p50: float
    p99: float


def cpu_of(pid: int) -> float:
    """Return the CPU seconds that a process has used, user and system."""
    fields = Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()
    return (int(fields[11]) + int(fields[12])) / TICKS


def children_cpu(parent: int) -> float:
    """Return the CPU seconds of the living children of a process."""
    total = 0.0
    for entry in Path("/proc").iterdir():
        if entry.name.isdigit():
            try:
                fields = (entry / "stat").read_text().rpartition(")")[2].split()
            except OSError:
                continue
            if int(fields[1]) == parent:
                total += (int(fields[11]) + int(fields[12])) / TICKS
    return total


@cache
def idle(server: int, postmaster: int) -> tuple[float, float]:
    """Return the CPU seconds that a server and its database use in a second while nobody asks."""
    cpu, database, started = cpu_of(server), children_cpu(postmaster), time.perf_counter()
    time.sleep(IDLE_SECONDS)
    passed = time.perf_counter() - started
    return (cpu_of(server) - cpu) / passed, (children_cpu(postmaster) - database) / passed


def machine_cpu() -> float:
    """Return the CPU seconds that all processes of the machine have used."""
    user, nice, system, _idle, _wait, irq, soft, steal = map(int, Path("/proc/stat").read_text().split()[1:9])
    return (user + nice + system + irq + soft + steal) / TICKS


def burst(
    url: str, forms: Callable[[], dict[str, str]], requests: int, connections: int, server: int, postmaster: int
) -> Load:
    """Send `requests` posts over `connections` kept connections; every answer must be 200.

    Args:
        forms: makes the form of each; all are made before the first is sent.
    """
    parts = urlsplit(url)

    def message() -> bytes:
        body = urlencode(forms()).encode()
        head = (
            f"POST {parts.path} HTTP/1.1\r\nHost: {parts.netloc}\r\n"
            "Content-Type: application/x-www-form-urlencoded\r\n"
            f"User-Agent: bench\r\nContent-Length: {len(body)}\r\n\r\n"
        )
        return head.encode() + body

    assert parts.hostname is not None
    assert parts.port is not None
    messages = [message() for _ in range(requests)]
    idle_cpu, idle_database = idle(server, postmaster)
    cpu, database, started = cpu_of(server), children_cpu(postmaster), time.perf_counter()
    times = asyncio.run(_burst(parts.hostname, parts.port, messages, connections))
    wall = time.perf_counter() - started
    times.sort()
    return Load(
        requests=requests,
        wall=wall,
        server_cpu=(cpu_of(server) - cpu - idle_cpu * wall) / requests,
        database_cpu=max(0.0, children_cpu(postmaster) - database - idle_database * wall) / requests,
        p50=times[len(times) // 2],
        p99=times[int(len(times) * 0.99)],
    )


def burst_of(url: str, form: dict[str, str], requests: int, connections: int, server: int, postmaster: int) -> Load:
    """Send the same form each time: what can be handed to another process."""
    return burst(url, lambda: form, requests, connections, server, postmaster)


async def _burst(host: str, port: int, messages: list[bytes], connections: int) -> list[float]:
    times: list[float] = []

    async def worker() -> None:
        reader, writer = await asyncio.open_connection(host, port)
        while messages:
            started = time.perf_counter()
            writer.write(messages.pop())
            head = await reader.readuntil(b"\r\n\r\n")
            if not head.startswith(b"HTTP/1.1 200"):
                raise RuntimeError(head.decode(errors="replace") + (await reader.read(300)).decode(errors="replace"))
            length = int(head.lower().split(b"content-length:")[1].split(b"\r\n")[0])
            await reader.readexactly(length)
            times.append(time.perf_counter() - started)
        writer.close()
        await writer.wait_closed()

    await asyncio.gather(*(worker() for _ in range(connections)))
    return times
