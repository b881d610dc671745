"""Decisions per second in core, on the demo's catalogue."""

from __future__ import annotations

import time
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from statistics import median

from jamb.core.access import ClientStanding, HeldAsk, HeldGrant, Request, decide, explain
from jamb.core.permissions import AccessKind
from jamb.demo.scenario import BERTHS

NOW = datetime(2026, 11, 23, tzinfo=UTC)
ROUNDS, CALLS = 5, 20_000


def measure() -> dict[str, float]:
    """Return calls per second, the median of five rounds: allowed, refused, and refused with its explanation."""
    kind, before = AccessKind.APPLICATION, NOW - timedelta(days=1)
    asks = tuple(HeldAsk(name, kind, before) for name in BERTHS.permissions)
    grants = tuple(HeldGrant(name, kind, before) for name in ("berths.view", "arrivals.view", "berths.assign"))
    client = ClientStanding("c", "Client", True, asks, grants, True)
    allowed, refused = Request("berths.list", kind), Request("berth.close", kind)
    assert decide(BERTHS, client, allowed, NOW).allowed
    assert not decide(BERTHS, client, refused, NOW).allowed
    work = {
        "decide, allowed": lambda: decide(BERTHS, client, allowed, NOW),
        "decide, refused": lambda: decide(BERTHS, client, refused, NOW),
        "explain, refused": lambda: explain(BERTHS, client, refused, NOW),
    }
    return {name: median(_rate(call) for _ in range(ROUNDS)) for name, call in work.items()}


def _rate(call: Callable[[], object]) -> float:
    started = time.process_time()
    for _ in range(CALLS):
        call()
    return CALLS / (time.process_time() - started)
