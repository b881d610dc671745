"""How long a request may be worked on: where it ends no further statement begins, and nothing more is committed.

A thread cannot be stopped from outside, and a statement has a time of its own (`bounded`): so a request ends at the
latest one statement after its time. A context without a deadline (commands, background work) has no such end.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar

from jamb.core.errors import Busy


class Deadline:
    def __init__(self, seconds: float) -> None:
        self._seconds = seconds
        self._ends: float | None = time.monotonic() + seconds

    def lift(self) -> None:
        """Let it go on for as long as it takes: its answer has begun."""
        self._ends = None

    def check(self) -> None:
        """Raise `Busy` when the time is over."""
        if self._ends is not None and time.monotonic() > self._ends:
            raise Busy(
                f"This took longer than {self._seconds:g} seconds, which is what a request has. Nothing is half done.",
                next_step="Look whether a part of it was done; ask for less at once, or try again later.",
                retry_after_seconds=max(1, round(self._seconds)),
            )


_current: ContextVar[Deadline | None] = ContextVar("deadline", default=None)


def begin(seconds: float) -> Deadline:
    """Give whatever is done in this context, and in threads begun by it, an end."""
    made = Deadline(seconds)
    _current.set(made)
    return made


@contextmanager
def without() -> Iterator[None]:
    """Do in the block what belongs to something that is committed already, however late it is."""
    before = _current.set(None)
    try:
        yield
    finally:
        _current.reset(before)


def check() -> None:
    if (deadline := _current.get()) is not None:
        deadline.check()
