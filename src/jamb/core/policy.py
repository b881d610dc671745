"""What a directory's policy bounds. Thresholds live here and nowhere else, so rules and refusals agree."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import timedelta


@dataclass(frozen=True, slots=True)
class DirectoryPolicy:
    """Bounds one directory sets for itself; each has a default a careful administrator would keep.

    Attributes:
        secret_default_days: life of a client secret when nobody says otherwise.
        secret_longest_days: longest life a client secret may be given; endless ones are always refused.
        notice_days: how long before its end a credential counts as expiring.
        observation_days: how long a grant must stand before "never used" means anything.
        access_token_seconds: life of an access token.
        person_token_seconds: life of an access token of a person at the command line.
        session_seconds: life of a console session.
    """

    secret_default_days: int = 90
    secret_longest_days: int = 180
    notice_days: int = 14
    observation_days: int = 14
    access_token_seconds: int = 600
    person_token_seconds: int = 8 * 3600
    session_seconds: int = 10 * 3600

    @property
    def notice(self) -> timedelta:
        return timedelta(days=self.notice_days)

    @property
    def observation(self) -> timedelta:
        return timedelta(days=self.observation_days)
