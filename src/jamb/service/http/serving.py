"""How a process serves: uvicorn, with a bound on the time of a TLS handshake, and on that of the end."""

from __future__ import annotations

import asyncio
import os
from collections.abc import Callable
from functools import partial
from threading import Timer
from typing import Any

import structlog
import uvicorn

from jamb.service.http.tls import Tls

# As uvicorn leaves where it could not begin to listen.
STARTUP_FAILURE = 3
# All is written and closed by then; the loop still waits for each task that it cancelled, however long that takes.
END_SECONDS = 5.0
_log = structlog.get_logger("jamb.serving")


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


class Server(uvicorn.Server):
    """Leaves within a bound of time once it has shut down, though a task may not heed that it is cancelled.

    `ending`: called as it begins to shut down, before it waits for the requests that are under way.
    """

    def __init__(self, config: uvicorn.Config, ending: Callable[[], None] = lambda: None) -> None:
        super().__init__(config)
        self._ending = ending

    async def serve(self, sockets: Any = None) -> None:
        try:
            await super().serve(sockets)
        finally:
            late = Timer(END_SECONDS, _leave, (0 if self.started else STARTUP_FAILURE,))
            late.daemon = True
            late.start()

    async def shutdown(self, sockets: Any = None) -> None:
        self._ending()
        await super().shutdown(sockets)


def _leave(code: int) -> None:
    _log.warning("a task did not end, and is left behind")
    os._exit(code)
