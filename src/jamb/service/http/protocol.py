"""The bytes of a connection, bounded: how long a head and a body may take, how long an answer may wait to be read.

Whoever sends a byte now and then, or never reads, would otherwise keep a connection for ever. A head that is too long
or too late is answered (RFC 9110 section 15.5.9, RFC 6585 section 5) where nothing else was, then the connection ends.
"""

from __future__ import annotations

import asyncio
import base64
from collections import Counter
from typing import Any, ClassVar

from uvicorn.protocols.http.httptools_impl import HttpToolsProtocol

from jamb.core.errors import BadInput, Busy, JambError, TooSlow
from jamb.guard.certificate import HEADER
from jamb.service.http.limits import ConnectionLimits
from jamb.wire.base.problems import MEDIA_TYPE, problem_of

_CERTIFICATE = HEADER.lower().encode()


class BoundedProtocol(HttpToolsProtocol):
    """HTTP/1.1 on one connection; `open_ones` counts those of a process by address."""

    limits: ClassVar[ConnectionLimits]
    open_ones: ClassVar[Counter[str]]

    def __init__(self, *given: Any, **named: Any) -> None:
        super().__init__(*given, **named)
        self._due: asyncio.TimerHandle | None = None
        self._unread: asyncio.TimerHandle | None = None
        self._head_bytes = 0
        self._in_head = True
        self._awaited: float | None = None
        self._stage = 0
        self._counted = ""
        # The certificate with which the caller holds the connection (DER), where this process ended TLS.
        self._held_by = b""

    def connection_made(self, transport: asyncio.Transport) -> None:  # type: ignore[override]
        super().connection_made(transport)
        address = self.client[0] if self.client else ""
        self._counted = address
        held = transport.get_extra_info("ssl_object")
        if self.limits.certificates and held is not None and address not in self.limits.trusted:
            self._held_by = held.getpeercert(binary_form=True) or b""
        self.open_ones[address] += 1
        of_address = self.limits.connections if address in self.limits.trusted else self.limits.connections_of_address
        if self.open_ones.total() > self.limits.connections or self.open_ones[address] > of_address:
            self._end(Busy("Too many connections are open.", next_step="Close some, or try again in a moment."))
            return
        self._await(self.limits.head_seconds)
        self._arm(self.limits.head_seconds)

    def connection_lost(self, exc: Exception | None) -> None:
        self._disarm()
        if self._unread is not None:
            self._unread.cancel()
        self.open_ones[self._counted] -= 1
        if self.open_ones[self._counted] <= 0:
            del self.open_ones[self._counted]
        super().connection_lost(exc)

    def data_received(self, data: bytes) -> None:
        if self._in_head:
            self._head_bytes += len(data)
        stage = self._stage
        super().data_received(data)
        if self._stage != stage:
            # What came whole in one piece is waited for no more: no timer is worth it.
            self._arm(self._awaited) if self._awaited is not None else self._disarm()
        if self._in_head and self._head_bytes > self.limits.max_head_bytes:
            allowed = f"at most {self.limits.max_head_bytes} bytes"
            self._end(BadInput.field("head", f"more than {self.limits.max_head_bytes} bytes", allowed), 431)

    def on_message_begin(self) -> None:
        super().on_message_begin()
        self._in_head = True
        if self._awaited is None:
            self._await(self.limits.head_seconds)

    def on_header(self, name: bytes, value: bytes) -> None:
        told = self.limits.certificates and self._counted in self.limits.trusted
        if name.lower() == _CERTIFICATE and not told:
            # Anybody could say that they hold one (RFC 9440 section 4).
            return
        super().on_header(name, value)

    def on_headers_complete(self) -> None:
        self._in_head, self._head_bytes = False, 0
        self._await(self.limits.body_seconds)
        if self._held_by:
            # As a proxy would say it.
            self.headers.append((_CERTIFICATE, b":%b:" % base64.b64encode(self._held_by)))
        super().on_headers_complete()

    def on_message_complete(self) -> None:
        self._await(None)
        super().on_message_complete()

    def pause_writing(self) -> None:
        super().pause_writing()
        self._unread = self.loop.call_later(self.limits.answer_seconds, self.transport.abort)

    def resume_writing(self) -> None:
        super().resume_writing()
        if self._unread is not None:
            self._unread.cancel()
            self._unread = None

    def _await(self, seconds: float | None) -> None:
        """Note how long what comes next may take; None: nothing is awaited."""
        self._awaited = seconds
        self._stage += 1

    def _arm(self, seconds: float) -> None:
        self._disarm()
        self._due = self.loop.call_later(seconds, self._late)

    def _disarm(self) -> None:
        if self._due is not None:
            self._due.cancel()
            self._due = None

    def _late(self) -> None:
        what, seconds = ("head", self.limits.head_seconds) if self._in_head else ("body", self.limits.body_seconds)
        self._end(TooSlow.field(what, f"not all of it within {seconds:g} seconds", f"within {seconds:g} seconds"))

    def _end(self, error: JambError, status: int | None = None) -> None:
        """Answer, if nothing was answered yet, and end the connection."""
        self._disarm()
        if self.transport.is_closing():
            return
        under_way = self.cycle is not None and not self.cycle.response_complete
        if not (under_way and self.cycle.response_started):
            self.transport.write(_bytes_of(error, status))
        self.transport.close()


def bounded_protocol(limits: ConnectionLimits) -> type[asyncio.Protocol]:
    """Return the protocol of one process."""
    return type("ProtocolOfProcess", (BoundedProtocol,), {"limits": limits, "open_ones": Counter()})


def _bytes_of(error: JambError, status: int | None) -> bytes:
    problem = problem_of(error)
    problem.status = status or problem.status
    body = problem.model_dump_json().encode()
    head = (
        f"HTTP/1.1 {problem.status} {problem.title}\r\nContent-Type: {MEDIA_TYPE}\r\n"
        f"Content-Length: {len(body)}\r\nConnection: close\r\n\r\n"
    )
    return head.encode() + body
