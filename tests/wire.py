"""A wire to the database that can be held, or cut at the answer to a COMMIT: a proxy on loopback."""

from __future__ import annotations

import select
import socket
import threading
from contextlib import suppress
from typing import Self

_CHUNK = 65_536
# A simple query (PostgreSQL manual, 55.7): its kind, its length with the length itself, the text.
_COMMIT = b"Q\x00\x00\x00\x0bCOMMIT\x00"


class Wire:
    """Passes bytes between clients and the server. `held`: nothing moves and nothing is closed; `away`: all is closed."""

    def __init__(self, host: str, port: int) -> None:
        self._target = (host, port)
        self._listener = socket.create_server(("127.0.0.1", 0), backlog=64)
        self.port: int = self._listener.getsockname()[1]
        self.held, self.away = threading.Event(), threading.Event()
        self.cut_at_commit = 0
        self.cuts = 0
        self._closing = threading.Event()
        self._lock = threading.Lock()

    def __enter__(self) -> Self:
        threading.Thread(target=self._accept, daemon=True).start()
        return self

    def __exit__(self, *_: object) -> None:
        self._closing.set()
        self._listener.close()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                near, _ = self._listener.accept()
                if self.away.is_set():
                    near.close()
                    continue
                threading.Thread(target=self._pass, args=(near,), daemon=True).start()

    def _pass(self, near: socket.socket) -> None:
        cut = False
        with near, suppress(OSError), socket.create_connection(self._target) as far:
            while not self._closing.is_set():
                ready, _, _ = select.select([near, far], [], [], 0.05)
                if self.away.is_set():
                    return
                if self.held.is_set():
                    self._closing.wait(0.05)
                    continue
                for source in ready:
                    data = source.recv(_CHUNK)
                    if not data:
                        return
                    if source is near:
                        cut = cut or (_COMMIT in data and self._may_cut())
                        far.sendall(data)
                    elif cut:
                        # The server has answered: what was asked for is done, and nobody hears it.
                        with self._lock:
                            self.cuts += 1
                        return
                    else:
                        near.sendall(data)

    def _may_cut(self) -> bool:
        with self._lock:
            if self.cut_at_commit <= 0:
                return False
            self.cut_at_commit -= 1
            return True
