"""Which of a directory's keys signs what, and which are published.

A directory has keys of two algorithms, each a series of its own (`SigningAlgorithm`):

1. a new key is published for `PUBLISHED_BEFORE`, so that every guard has read it, and then it signs
2. the one before it stays published for as long as what it signed may live
3. a key that somebody else may have is withdrawn: what it signed is refused from then on
"""

from __future__ import annotations

from collections.abc import Collection, Iterable
from datetime import datetime, timedelta
from enum import StrEnum
from typing import Protocol, TypeVar


class SigningAlgorithm(StrEnum):
    """ES256: access tokens, and all else that Jamb's own parts read. RS256: what is said to a client of a person.

    RS256 is what clients expect where nothing else was agreed (OpenID Connect Core section 2, Back-Channel Logout
    section 2.4, RFC 9701 section 6); ES256 takes a tenth of its time.
    """

    ES256 = "ES256"
    RS256 = "RS256"

    def signs(self, access_tokens_by: SigningAlgorithm) -> str:
        """Return what keys of this algorithm sign, in words, where access tokens are signed by this or the other."""
        if self is access_tokens_by:
            return "access tokens" if self is SigningAlgorithm.ES256 else "access tokens and ID tokens"
        return "webhook events and evidence" if self is SigningAlgorithm.ES256 else "ID tokens"


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
    def algorithm(self) -> str: ...
    @property
    def signs_from(self) -> datetime: ...
    @property
    def withdrawn_at(self) -> datetime | None: ...


KeyT = TypeVar("KeyT", bound=KeyTimes)


def series_of(keys: Iterable[KeyT], algorithm: str) -> list[KeyT]:
    """Return the keys of one algorithm: each follows the one before it."""
    return [key for key in keys if key.algorithm == algorithm]


def signing_of(keys: Iterable[KeyT], algorithm: str, now: datetime) -> KeyT | None:
    """Return the key that signs by this algorithm: of those that may, the one that began last."""
    return max(
        (key for key in series_of(keys, algorithm) if key.withdrawn_at is None and key.signs_from <= now),
        key=lambda key: key.signs_from,
        default=None,
    )


def coming_of(keys: Iterable[KeyT], algorithm: str, now: datetime) -> KeyT | None:
    """Return the key of this algorithm that is published and does not sign yet, if there is one."""
    return next((key for key in series_of(keys, algorithm) if key.withdrawn_at is None and key.signs_from > now), None)


def published_of(keys: Iterable[KeyT], now: datetime) -> list[KeyT]:
    """Return those of the key set, newest first: what a key signed may live until so long after the next one began."""
    found, next_began = [], dict[str, datetime]()
    for key in sorted((key for key in keys if key.withdrawn_at is None), key=lambda key: key.signs_from, reverse=True):
        if next_began.get(key.algorithm, now) + PUBLISHED_AFTER > now:
            found.append(key)
            next_began[key.algorithm] = key.signs_from
    return found


def state_of(key: KeyT, keys: Collection[KeyT], now: datetime) -> KeyState:
    """Return in which state a key is among those of its directory."""
    if key.withdrawn_at is not None:
        return KeyState.WITHDRAWN
    if key.signs_from > now:
        return KeyState.COMING
    if key is signing_of(keys, key.algorithm, now):
        return KeyState.SIGNS
    return KeyState.PUBLISHED if any(key is one for one in published_of(keys, now)) else KeyState.ENDED


def is_due(keys: Iterable[KeyT], algorithm: str, days: int, now: datetime) -> bool:
    """Tell whether the newest key of this algorithm has signed for so many days; 0 days: it never has.

    Where there is none yet, one is due.
    """
    stand = [key.signs_from for key in series_of(keys, algorithm) if key.withdrawn_at is None]
    return not stand or (bool(days) and max(stand) <= now - timedelta(days=days))
