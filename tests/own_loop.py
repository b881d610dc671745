"""Coroutines in a test: a browser of other tests may hold a loop in the test's own thread."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable
from concurrent.futures import ThreadPoolExecutor
from typing import Any

SECONDS = 120


def in_own_loop(*works: Awaitable[Any]) -> Any:
    """Run them at once, each in a thread and a loop of its own, and return the answer of the first."""
    with ThreadPoolExecutor(len(works)) as pool:
        first, *others = [pool.submit(asyncio.run, work) for work in works]  # type: ignore[arg-type]
        for other in others:
            other.result(SECONDS)
        return first.result(SECONDS)
