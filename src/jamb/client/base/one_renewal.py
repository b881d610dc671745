"""What renews a token while others wait: one at a time, among the threads and the tasks of a program alike."""

from __future__ import annotations

import threading
from abc import abstractmethod
from collections.abc import AsyncGenerator, Callable, Generator
from enum import Enum, auto

import httpx

# A task must not block its loop: it looks so often whether whoever renews is done.
LOOK_SECONDS = 0.01


class Turn(Enum):
    """Steps of a flow beside its requests: from TAKE to GIVE it is alone."""

    TAKE = auto()
    GIVE = auto()


# A request that is sent by the program's own client; a turn; or work that blocks, as a request of our own does, with
# which a turn ends.
Step = httpx.Request | Turn | Callable[[], None]
Steps = Generator[Step, httpx.Response | None, None]


class OneRenewal(httpx.Auth):
    """Carries out the steps of an authentication flow in threads and in tasks.

    Whatever ends a flow, an error or a cancelled task, its turn ends with it.
    """

    requires_response_body = True

    def __init__(self) -> None:
        self._lock = threading.Lock()

    @abstractmethod
    def _steps(self, request: httpx.Request) -> Steps:
        """Return the flow of a request; each request in it is answered by its response."""

    def sync_auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        steps, alone, answer = self._steps(request), False, None
        try:
            while True:
                try:
                    step = steps.send(answer)
                except StopIteration:
                    return
                answer = None
                if isinstance(step, httpx.Request):
                    answer = yield step
                    answer.read()
                elif step is Turn.TAKE:
                    alone = self._lock.acquire()
                elif isinstance(step, Turn):
                    self._lock.release()
                    alone = False
                else:
                    step()
                    self._lock.release()
                    alone = False
        finally:
            steps.close()
            if alone:
                self._lock.release()

    async def async_auth_flow(self, request: httpx.Request) -> AsyncGenerator[httpx.Request, httpx.Response]:
        # Only programs with tasks have it: httpx asks for it where it serves them.
        import anyio  # noqa: PLC0415

        steps, alone, answer = self._steps(request), False, None
        try:
            while True:
                try:
                    step = steps.send(answer)
                except StopIteration:
                    return
                answer = None
                if isinstance(step, httpx.Request):
                    answer = yield step
                    await answer.aread()
                elif step is Turn.TAKE:
                    # The lock is of threads too, which wake no task.
                    while not self._lock.acquire(blocking=False):  # noqa: ASYNC110
                        await anyio.sleep(LOOK_SECONDS)
                    alone = True
                elif isinstance(step, Turn):
                    self._lock.release()
                    alone = False
                else:
                    # The turn is the thread's now: whoever gives up waiting for it leaves it to end by itself.
                    work, alone = _InThread(step, self._lock), False
                    while not work.done:  # noqa: ASYNC110
                        await anyio.sleep(LOOK_SECONDS)
                    work.answer()
        finally:
            steps.close()
            if alone:
                self._lock.release()


class _InThread:
    """Work in a thread of its own, which gives a lock back when it is done. A program that ends waits for it."""

    def __init__(self, work: Callable[[], None], lock: threading.Lock) -> None:
        self.done = False
        self._error: BaseException | None = None
        self._work, self._lock = work, lock
        threading.Thread(target=self._run, name="jamb renewal").start()

    def _run(self) -> None:
        try:
            self._work()
        except BaseException as error:  # noqa: BLE001 - raised where it is waited for
            self._error = error
        finally:
            self._lock.release()
            self.done = True

    def answer(self) -> None:
        """Raise what the work raised."""
        if self._error is not None:
            raise self._error
