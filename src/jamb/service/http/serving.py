"""How a process serves: uvicorn's configuration, with a bound on the time of a TLS handshake."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from functools import partial
from typing import Any

import uvicorn

from jamb.service.http.tls import Tls


class Config(uvicorn.Config):
    """By TLS where there is some. A handshake that takes too long is given up, as a head that does."""

    def __init__(self, app: Any, tls: Tls | None, **named: Any) -> None:
        given: dict[str, Any] = {"ssl_context_factory": lambda *_: tls.context} if tls is not None else {}
        super().__init__(app, **given, **named)
        self._tls = tls

    def get_loop_factory(self) -> Callable[[], asyncio.AbstractEventLoop] | None:
        usual, tls = super().get_loop_factory(), self._tls
        if tls is None:
            return usual

        def bounded() -> asyncio.AbstractEventLoop:
            loop: Any = usual() if usual is not None else asyncio.new_event_loop()
            # The one server of this process is made by it.
            loop.create_server = partial(loop.create_server, ssl_handshake_timeout=tls.handshake_seconds)
            made: asyncio.AbstractEventLoop = loop
            return made

        return bounded
