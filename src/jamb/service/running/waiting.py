"""Guards that wait until something is taken away, in place of asking again and again.

A conditional read (RFC 9110 section 13.1.2) whose answer would be that nothing is new is held back for as long as its
caller prefers to wait (`Prefer: wait`, RFC 7240 section 4.3). One look a second at the marks of all resources that are
waited for tells what is new; then the read is done again from its beginning, whoever asks admitted anew. Who waits
holds neither a thread nor a connection to the database.
"""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Awaitable, Callable, Collection, Coroutine, Mapping
from dataclasses import dataclass
from typing import Any
from uuid import UUID

from starlette.datastructures import Headers, MutableHeaders
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from jamb.core.errors import WorldFailure
from jamb.store.resources.taken_away import Mark

LOOK_SECONDS = 1.0
LONGEST_SECONDS = 30
# In one process; whoever else asks is answered at once.
MOST_WAITING = 500
# Where a route puts what a later answer would be known by.
WATCHED = "jamb.watched"
_WAIT = re.compile(r"wait\s*=\s*\"?(\d{1,9})\"?")


@dataclass(frozen=True, slots=True)
class Watched:
    resource_id: UUID
    mark: Mark


class Watch:
    """Who waits in this process. `marks`: reads those of some resources as they are now."""

    def __init__(self, marks: Callable[[Collection[UUID]], Awaitable[Mapping[UUID, Mark]]]) -> None:
        self._marks = marks
        self._waiting: dict[asyncio.Future[bool], Watched] = {}
        self._somebody = asyncio.Event()
        self._ending = False

    @property
    def is_full(self) -> bool:
        return self._ending or len(self._waiting) >= MOST_WAITING

    async def changed(self, watched: Watched, seconds: float) -> bool:
        """Wait so long for another mark; tell whether to look again: it is another, or may be."""
        heard: asyncio.Future[bool] = asyncio.get_running_loop().create_future()
        self._waiting[heard] = watched
        self._somebody.set()
        try:
            return await asyncio.wait_for(heard, seconds)
        except TimeoutError:
            return False
        finally:
            del self._waiting[heard]

    async def look(self) -> None:
        """Look again and again while somebody waits, for ever."""
        while True:
            await self._somebody.wait()
            if not self._waiting:
                self._somebody.clear()
                continue
            await asyncio.sleep(LOOK_SECONDS)
            before = dict(self._waiting)
            try:
                found = await self._marks({watched.resource_id for watched in before.values()})
            except WorldFailure:
                # Each is told what is the matter by the read that it does again.
                found = {}
            for heard, watched in before.items():
                if found.get(watched.resource_id) != watched.mark:
                    _tell(heard, again=True)

    def end(self) -> None:
        """Let nobody wait any longer: the process ends."""
        self._ending = True
        for heard in self._waiting:
            _tell(heard, again=False)


def _tell(heard: asyncio.Future[bool], *, again: bool) -> None:
    if not heard.done():
        heard.set_result(again)


class Waiting:
    """Holds back the answer that nothing is new, where its caller prefers to wait for something that is."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        seconds = _preferred(scope)
        if not seconds:
            await self._app(scope, receive, send)
            return
        ends, waited = time.monotonic() + seconds, False
        while True:
            looked, held = dict(scope), _Held(send)
            await self._app(looked, receive, held.send)
            watched: Watched | None = looked.get(WATCHED)
            if not held.nothing_new or watched is None:
                break
            watch: Watch = scope["app"].state.runtime.watch
            left = ends - time.monotonic()
            if watch.is_full or left <= 0:
                break
            waited = True
            if not await _unless_left(receive, watch.changed(watched, left)):
                break
        await held.release({"Preference-Applied": f"wait={seconds}"} if waited else {})


class _Held:
    """Passes an answer on, but for one that says that nothing is new: that is kept until it is released."""

    def __init__(self, send: Send) -> None:
        self._send = send
        self._kept: list[Message] = []
        self.nothing_new = False

    async def send(self, message: Message) -> None:
        if message["type"] == "http.response.start":
            self.nothing_new = message["status"] == 304
        if self.nothing_new:
            self._kept.append(message)
        else:
            await self._send(message)

    async def release(self, headers: Mapping[str, str]) -> None:
        """Pass on what was kept, if anything was, with further headers."""
        for message in self._kept:
            if message["type"] == "http.response.start":
                MutableHeaders(scope=message).update(headers)
            await self._send(message)


def _preferred(scope: Scope) -> int:
    """Return how many seconds the caller of a conditional read would wait, and may; 0: not at all."""
    if scope["type"] != "http" or scope["method"] != "GET":
        return 0
    headers = Headers(scope=scope)
    # A proof of possession is for one look (RFC 9449 section 4.3), and whoever waits is admitted at each.
    if "if-none-match" not in headers or "dpop" in headers:
        return 0
    for line in headers.getlist("prefer"):
        for preference in line.lower().split(","):
            if found := _WAIT.fullmatch(preference.partition(";")[0].strip()):
                return min(int(found[1]), LONGEST_SECONDS)
    return 0


async def _unless_left(receive: Receive, waiting: Coroutine[Any, Any, bool]) -> bool:
    """Return what is waited for; false as soon as the caller has closed the connection."""
    task = asyncio.create_task(waiting)
    both = {task, asyncio.create_task(_left(receive))}
    try:
        await asyncio.wait(both, return_when=asyncio.FIRST_COMPLETED)
        return task.done() and task.result()
    finally:
        for each in both:
            each.cancel()
        await asyncio.gather(*both, return_exceptions=True)


async def _left(receive: Receive) -> None:
    while (await receive())["type"] != "http.disconnect":
        pass
