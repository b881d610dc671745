"""Count what may be guessed, and turn away whoever has guessed too often."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from datetime import datetime

from jamb.actions.base.backend import Backend
from jamb.core.errors import TooManyTries
from jamb.core.tries import Counted
from jamb.store.base.work import observation
from jamb.store.entry.tries import count_try, take_back_try


@contextmanager
def guessing(backend: Backend, counted: Counted, now: datetime) -> Iterator[None]:
    """Count a try for the block, and take it off again where the block ends well: it was no guess.

    Raises:
        TooManyTries: there were too many before.
    """
    refuse_too_many(backend, (counted,), now)
    yield
    with observation(backend.engine) as session:
        take_back_try(session, backend.sealer.session_key, (counted,))


def refuse_too_many(backend: Backend, counted: Sequence[Counted], now: datetime) -> None:
    """Count a try by each of these. Raises `TooManyTries` where one allows no more."""
    with observation(backend.engine) as session:
        until = count_try(session, backend.sealer.session_key, counted, now)
    if until is not None:
        raise too_many(until, now)


def too_many(until: datetime, now: datetime, what: str = "tries") -> TooManyTries:
    wait = int((until - now).total_seconds()) + 1
    return TooManyTries(f"Too many {what}.", next_step=f"Wait {wait} seconds and try again.", retry_after_seconds=wait)
