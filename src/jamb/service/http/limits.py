"""What one process takes on of what comes over the network."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class ConnectionLimits:
    """Of connections. `trusted`: proxies, whose connections are those of many callers.

    `certificates`: whether they tell with which certificate a caller holds the connection.
    """

    head_seconds: float
    body_seconds: float
    answer_seconds: float
    max_head_bytes: int
    connections: int
    connections_of_address: int
    trusted: Collection[str]
    certificates: bool = False
