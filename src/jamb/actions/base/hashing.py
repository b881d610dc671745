"""Passwords and passphrases are stretched (argon2id, RFC 9106): slowly, in 64 MiB, and so never all at once.

It is done in a small pool of its own, outside of every transaction, behind the requests of those who are signed in. Who
comes when it is full is turned away at once and told when to come again; nobody else waits for that.
"""

from __future__ import annotations

import os
import threading
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from typing import TypeVar

from jamb.core.errors import TooManyTries

ResultT = TypeVar("ResultT")

AT_ONCE = 1
# Those that wait beside, in all and from one address; and further places for devices that signed in before.
MOST_WAITING = 15
MOST_OF_ADDRESS = 6
KEPT_FOR_KNOWN = 4
AGAIN_SECONDS = 3
# Below the requests of the same process (POSIX nice values; a thread has its own on Linux).
_NICE = 19


class Hashing:
    """The pool of one process."""

    def __init__(self) -> None:
        self._pool = ThreadPoolExecutor(AT_ONCE, "hashing", initializer=_step_back)
        self._lock = threading.Lock()
        self._by_address: Counter[str] = Counter()

    def waiting(self) -> int:
        """Return how many have a place."""
        with self._lock:
            return self._by_address.total()

    def run(self, work: Callable[[], ResultT], address: str = "", *, known: bool = False) -> ResultT:
        """Do some work in its turn.

        Args:
            address: of whoever asks; empty: somebody who is signed in.
            known: a device that signed in before, for which some places are kept.

        Raises:
            TooManyTries: too many wait, in all or from this address.
        """
        with self._lock:
            places = AT_ONCE + MOST_WAITING + (KEPT_FOR_KNOWN if known or not address else 0)
            of_address = places if known or not address else MOST_OF_ADDRESS
            if self._by_address.total() >= places or self._by_address[address] >= of_address:
                raise TooManyTries(
                    "Too many sign in at this moment.",
                    next_step=f"Wait {AGAIN_SECONDS} seconds and try again.",
                    retry_after_seconds=AGAIN_SECONDS,
                )
            self._by_address[address] += 1
        try:
            return self._pool.submit(work).result()
        finally:
            with self._lock:
                self._by_address[address] -= 1
                if not self._by_address[address]:
                    del self._by_address[address]


def _step_back() -> None:
    # Where threads have no priority of their own the work is only bounded, not put behind.
    with suppress(OSError, AttributeError):
        os.setpriority(os.PRIO_PROCESS, threading.get_native_id(), _NICE)
