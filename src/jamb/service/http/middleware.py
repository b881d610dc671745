"""What stands before every request: whose host was asked, text that can be kept, the body's length, headers, the log.

Plain ASGI, because it stands before every request: a wrapper that buffers would cost more than the route. How long a
request may take to arrive is bounded one step further out, where bytes are read (`service/protocol.py`).
"""

from __future__ import annotations

import time
from collections.abc import Collection
from math import ceil
from typing import Any
from urllib.parse import unquote_to_bytes

import structlog
from starlette.datastructures import MutableHeaders
from starlette.requests import Request
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from jamb.core.errors import JambError, Malformed, Misdirected, TooLarge
from jamb.core.text import ONE_LINE, line_fault, visible
from jamb.service.http import request_id
from jamb.service.http.problems import problem_response
from jamb.service.http.senders import address_of
from jamb.service.running.process_counts import count_request
from jamb.store.connections.deadline import begin

# Of what is sent before anybody is signed in: a login, a code, the key of a link.
MOST_OPEN_BODY_BYTES = 16_384
_OPEN = (
    "/api/v1/session",
    "/api/v1/devices/",
    "/api/v1/handovers/",
    "/api/v1/sign-in-links/",
    "/api/v1/authorizations/",
    "/api/v1/sign-outs/",
)
# Asked by whoever watches over the process, by its address.
_UNNAMED = ("/health", "/ready", "/metrics")
# Token requests have records of their own, and the address of a calendar is its key.
_UNLOGGED = ("/health", "/ready", "/assets/", "/d/")
# Where the guard of a route puts the id of who calls, for the log.
CALLER = "jamb.caller"
# Where it puts the reads that may be old, so that the answer says how old.
AGED = "jamb.aged"
_log = structlog.get_logger("jamb.request")


class Middleware:
    def __init__(
        self, app: ASGIApp, hosts: Collection[str], public_url: str, max_body_bytes: int, request_seconds: float
    ) -> None:
        self._app = app
        self._hosts = frozenset(host.encode() for host in hosts)
        self._public_url = public_url
        self._secure = public_url.startswith("https://")
        self._max_body_bytes = max_body_bytes
        self._request_seconds = request_seconds

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self._app(scope, receive, send)
            return
        path: str = scope["path"]
        refused = self._refusal(scope)
        # Token requests leave a record of their own and bound their own body.
        if path.startswith("/d/") and refused is None and not self._secure:
            await self._app(scope, receive, send)
            return
        started = time.perf_counter()
        status, number = 500, request_id.begin()
        deadline = begin(self._request_seconds)
        if path.startswith(_UNNAMED):
            # These have ends of their own, and are asked most when all else takes long.
            deadline.lift()

        async def answered(message: Message) -> None:
            nonlocal status
            if message["type"] == "http.response.start":
                status = message["status"]
                deadline.lift()
                headers = MutableHeaders(scope=message)
                headers[request_id.HEADER] = number
                self._add_headers(headers, path)
                if (aged := scope.get(AGED)) is not None and aged.age is not None:
                    headers["Age"] = str(ceil(aged.age))
            await send(message)

        try:
            if refused is not None:
                await problem_response(refused)(scope, receive, answered)
            else:
                await self._app(scope, _bounded(receive, self._longest(path)), answered)
        finally:
            count_request(scope["method"], status, time.perf_counter() - started)
            if not path.startswith(_UNLOGGED):
                took = round(1000 * (time.perf_counter() - started), 1)
                _log.info(
                    "request",
                    method=scope["method"],
                    path=visible(path[:300]),
                    status=status,
                    ms=took,
                    address=address_of(Request(scope)),
                    caller=scope.get(CALLER, ""),
                )

    def _longest(self, path: str) -> int:
        return MOST_OPEN_BODY_BYTES if path.startswith(_OPEN) else self._max_body_bytes

    def _refusal(self, scope: Scope) -> JambError | None:
        """Return why a request is not looked at, judged by its head alone."""
        host = length = b""
        for name, value in scope["headers"]:
            if name == b"host":
                host = value
            elif name == b"content-length":
                length = value
        if host.lower() not in self._hosts and not scope["path"].startswith(_UNNAMED):
            # RFC 9110 section 7.4. Nothing of what was asked is repeated: it would be a page of that host.
            return Misdirected(
                "This service does not answer at that host.",
                next_step=f"Use {self._public_url}; whoever runs the service names other hosts in JAMB_HOSTS.",
            )
        for field, raw in (("path", scope.get("raw_path", b"")), ("query", scope["query_string"])):
            fault = _fault_of(raw, field)
            if fault:
                return Malformed.field(field, fault, f"UTF-8 of {ONE_LINE}", "Correct the address.")
        longest = self._longest(scope["path"])
        if length.isdigit() and int(length) > longest:
            return _too_large(longest)
        return None

    def _add_headers(self, headers: MutableHeaders, path: str) -> None:
        headers["X-Content-Type-Options"] = "nosniff"
        headers["Referrer-Policy"] = "no-referrer"
        if path.startswith("/api/"):
            headers["Cache-Control"] = "no-store"
        if self._secure:
            # RFC 6797 section 6.1: two years.
            headers["Strict-Transport-Security"] = "max-age=63072000"


def _fault_of(raw: bytes, field: str) -> str:
    if b"%" not in raw and raw.isascii():
        return ""
    try:
        text = unquote_to_bytes(raw.replace(b"+", b" ") if field == "query" else raw).decode()
    except UnicodeDecodeError:
        return "it is not UTF-8"
    return line_fault(text)


def _bounded(receive: Receive, longest: int) -> Receive:
    """Stop reading a body that is longer than it said, or did not say."""
    seen = 0

    async def bounded() -> Any:
        nonlocal seen
        message = await receive()
        seen += len(message.get("body", b""))
        if seen > longest:
            raise _too_large(longest)
        return message

    return bounded


def _too_large(longest: int) -> JambError:
    return TooLarge.field("body", f"more than {longest} bytes", f"at most {longest} bytes")
