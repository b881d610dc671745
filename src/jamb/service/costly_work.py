"""Taking turns at what costs much, for whoever is not signed in yet: few at once, the others wait for a moment.

Whoever waits holds a connection of the network and nothing else: no thread, none of the database. Devices that signed
in before come first. Who has waited for so long, or finds too many waiting, is told to come again: so a crowd is slowed
down to the rate at which it can be served.
"""

from __future__ import annotations

import asyncio
from collections import Counter, deque
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager

from jamb.core.errors import TooManyTries

AT_ONCE = 2
MOST_WAITING = 200
MOST_WAITING_OF_ADDRESS = 20
AGAIN_SECONDS = 3


class Turns:
    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._at_work = 0
        self._known: deque[asyncio.Future[None]] = deque()
        self._others: deque[asyncio.Future[None]] = deque()
        self._of_address: Counter[str] = Counter()

    @asynccontextmanager
    async def turn(self, address: str, *, known: bool) -> AsyncIterator[None]:
        """Have a turn for the block.

        Raises:
            TooManyTries: none came in time, or too many wait.
        """
        await self._wait(address, known)
        try:
            yield
        finally:
            self._pass_on()

    async def _wait(self, address: str, known: bool) -> None:
        if self._at_work < AT_ONCE:
            self._at_work += 1
            return
        waiting = self._known if known else self._others
        if len(waiting) >= MOST_WAITING or self._of_address[address] >= MOST_WAITING_OF_ADDRESS:
            await asyncio.sleep(min(1.0, self._seconds))
            raise _later()
        mine: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        waiting.append(mine)
        self._of_address[address] += 1
        try:
            async with asyncio.timeout(self._seconds):
                await mine
        except TimeoutError as error:
            raise _later() from error
        except asyncio.CancelledError:
            # It went away just as its turn came.
            if mine.done() and not mine.cancelled():
                self._pass_on()
            raise
        finally:
            self._of_address[address] -= 1
            if not self._of_address[address]:
                del self._of_address[address]

    def _pass_on(self) -> None:
        for waiting in (self._known, self._others):
            while waiting:
                following = waiting.popleft()
                if not following.done():
                    following.set_result(None)
                    return
        self._at_work -= 1


def _later() -> TooManyTries:
    return TooManyTries(
        "Too many sign in at this moment.",
        next_step=f"Wait {AGAIN_SECONDS} seconds and try again.",
        retry_after_seconds=AGAIN_SECONDS,
    )
