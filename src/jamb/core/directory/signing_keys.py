"""Which of a directory's keys signs, and which are published.

1. a new key is published for `PUBLISHED_BEFORE`, so that every guard has read it, and then it signs
2. the one before it stays published for as long as what it signed may live
3. a key that somebody else may have is withdrawn: what it signed is refused from then on
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Protocol, TypeVar

# Longer than guards keep what they read (`jamb.guard.keys`), and than any cache of the key set (its max-age).
PUBLISHED_BEFORE = timedelta(minutes=15)
# Longer than any token of ours lives: a person's at the command line, by the bounds of the policy.
PUBLISHED_AFTER = timedelta(days=31)
# Made within a day, by hand: whoever needs more makes a mistake, or has a loop. To withdraw is never refused.
MOST_IN_A_DAY = 10


class KeyState(StrEnum):
    """coming: published, and signs soon. published: signs no more, and what it signed is good still."""

    COMING = "coming"
    SIGNS = "signs"
    PUBLISHED = "published"
    ENDED = "ended"
    WITHDRAWN = "withdrawn"

    @property
    def words(self) -> str:
        return {"coming": "signs soon", "published": "signed before", "ended": "no longer published"}.get(
            self, self.value
        )


class KeyTimes(Protocol):
    """`signs_from`: until then it signs nothing. `withdrawn_at`: since then nothing that it signed is good."""

    @property
    def signs_from(self) -> datetime: ...
    @property
    def withdrawn_at(self) -> datetime | None: ...


KeyT = TypeVar("KeyT", bound=KeyTimes)


def signing_of(keys: Iterable[KeyT], now: datetime) -> KeyT | None:
    """Return the key that signs: of those that may, the one that began last."""
    return max(
        (key for key in keys if key.withdrawn_at is None and key.signs_from <= now),
        key=lambda key: key.signs_from,
        default=None,
    )


def coming_of(keys: Iterable[KeyT], now: datetime) -> KeyT | None:
    """Return the key that is published and does not sign yet, if there is one."""
    return next((key for key in keys if key.withdrawn_at is None and key.signs_from > now), None)


def published_of(keys: Iterable[KeyT], now: datetime) -> list[KeyT]:
    """Return those of the key set, newest first: what a key signed may live until so long after the next one began."""
    found: list[KeyT] = []
    for key in sorted((key for key in keys if key.withdrawn_at is None), key=lambda key: key.signs_from, reverse=True):
        if found and found[-1].signs_from + PUBLISHED_AFTER <= now:
            break
        found.append(key)
    return found


def state_of(key: KeyT, keys: Collection[KeyT], now: datetime) -> KeyState:
    """Return in which state a key is among those of its directory."""
    if key.withdrawn_at is not None:
        return KeyState.WITHDRAWN
    if key.signs_from > now:
        return KeyState.COMING
    if key is signing_of(keys, now):
        return KeyState.SIGNS
    return KeyState.PUBLISHED if any(key is one for one in published_of(keys, now)) else KeyState.ENDED


def is_due(keys: Iterable[KeyT], days: int, now: datetime) -> bool:
    """Tell whether the newest key has signed for so many days; 0 days: it never has."""
    newest = max((key.signs_from for key in keys if key.withdrawn_at is None), default=now)
    return bool(days) and newest <= now - timedelta(days=days)
