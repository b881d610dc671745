"""OpenTelemetry traces, where its usual variables of the environment name a collector and the extra is installed.

Requests are spans of the framework's own (`http.server`); statements are spans below them (`store/connections/traces`).
"""

from __future__ import annotations

import os
from collections.abc import MutableMapping
from typing import Any

from fastapi.telemetry import TelemetryConfig

ENDPOINTS = ("OTEL_EXPORTER_OTLP_TRACES_ENDPOINT", "OTEL_EXPORTER_OTLP_ENDPOINT")
# Asked all the time; and the address of a calendar is its key.
_UNTRACED = ("/health", "/ready", "/metrics", "/assets/")
_CALENDAR = "/calendar/"


def are_wanted() -> bool:
    return any(os.environ.get(name) for name in ENDPOINTS)


def telemetry() -> TelemetryConfig:
    """Return what the framework traces: requests alone. Logs and metrics are our own, and errors may quote input."""
    wanted = are_wanted()
    return {
        "auto_configure": wanted,
        "tracing": wanted,
        "operation_spans": False,
        "metrics": False,
        "logs": False,
        "exclude": _untraced,
    }


def _untraced(scope: MutableMapping[str, Any]) -> bool:
    path = str(scope.get("path", ""))
    return path.startswith(_UNTRACED) or _CALENDAR in path
