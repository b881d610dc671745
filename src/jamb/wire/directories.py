"""A directory and its policy."""

from __future__ import annotations

from jamb.wire.base import Answered


class Policy(Answered):
    secret_default_days: int
    secret_longest_days: int
    notice_days: int
    observation_days: int
    access_token_seconds: int
    person_token_seconds: int
    session_seconds: int


class Directory(Answered):
    slug: str
    name: str
    domain: str
    issuer: str
    token_endpoint: str
    policy: Policy
