"""What a process counts of itself while it runs, for `/metrics`."""

from __future__ import annotations

from prometheus_client import CollectorRegistry, Histogram

REGISTRY = CollectorRegistry()
_SECONDS = (0.005, 0.01, 0.025, 0.05, 0.1, 0.25, 0.5, 1.0, 2.5, 5.0, 10.0, 30.0)

REQUESTS = Histogram(
    "jamb_request_seconds",
    "Time that requests took, of this process; token requests are counted on record",
    ["method", "status"],
    registry=REGISTRY,
    buckets=_SECONDS,
)
ROUNDS = Histogram(
    "jamb_round_seconds",
    "Time that a round of background work took, of this process",
    registry=REGISTRY,
    buckets=(*_SECONDS, 60.0, 300.0),
)
# What somebody sends as a method is not counted apart.
_METHODS = frozenset({"GET", "HEAD", "POST", "PUT", "PATCH", "DELETE", "OPTIONS"})


def count_request(method: str, status: int, seconds: float) -> None:
    REQUESTS.labels(method if method in _METHODS else "other", str(status)).observe(seconds)
