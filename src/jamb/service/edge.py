"""The outermost layer: body limit, request log, and the headers that every answer of the API carries.

Plain ASGI, because it stands before every request: a wrapper that buffers would cost more than the route.
"""

from __future__ import annotations

import time
from typing import Any

import structlog
from starlette.datastructures import MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from jamb.core.errors import BadInput
from jamb.service.problems import problem_response

MOST_BODY_BYTES = 1_000_000
_log = structlog.get_logger("jamb.request")


class Edge:
    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        # Token requests leave a record of their own and bound their own body.
        if scope["type"] != "http" or scope["path"].startswith("/d/"):
            await self._app(scope, receive, send)
            return
        started = time.perf_counter()
        status = 500

        async def answered(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                headers = MutableHeaders(scope=message)
                headers["X-Content-Type-Options"] = "nosniff"
                headers["Referrer-Policy"] = "no-referrer"
                if scope["path"].startswith("/api/"):
                    headers["Cache-Control"] = "no-store"
            await send(message)

        try:
            if _declared_length(scope) > MOST_BODY_BYTES:
                await problem_response(_too_large())(scope, receive, answered)
                return
            await self._app(scope, _bounded(receive), answered)
        finally:
            if not scope["path"].startswith(("/health", "/ready", "/assets/")):
                _log.info(
                    "request",
                    method=scope["method"],
                    path=scope["path"],
                    status=status,
                    ms=round(1000 * (time.perf_counter() - started), 1),
                )


def _declared_length(scope: Scope) -> int:
    for name, value in scope["headers"]:
        if name == b"content-length" and value.isdigit():
            return int(value)
    return 0


def _bounded(receive: Receive) -> Receive:
    """Stop reading a body that is longer than it said, or did not say."""
    seen = 0

    async def bounded() -> Any:
        nonlocal seen
        message = await receive()
        seen += len(message.get("body", b""))
        if seen > MOST_BODY_BYTES:
            raise _too_large()
        return message

    return bounded


def _too_large() -> BadInput:
    return BadInput.field("body", f"more than {MOST_BODY_BYTES} bytes", f"at most {MOST_BODY_BYTES} bytes")
