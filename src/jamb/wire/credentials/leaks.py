"""Secrets that leaked."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from jamb.wire.base.shapes import Answered, Sent
from jamb.wire.credentials.credentials import Credential

MOST_LOOKED_UP = 1000


class LeaksFound(Sent):
    """SHA-256 of each secret, in 64 hexadecimal digits: the secrets themselves are not sent."""

    look_ups: Annotated[
        list[Annotated[str, Field(pattern="^[0-9a-f]{64}$")]], Field(min_length=1, max_length=MOST_LOOKED_UP)
    ]


class LeakedSecret(Answered):
    """What is known of a secret that leaked. `client_*`, `credential`: empty where the caller may not see the client.

    `works`: whether it still proves its client; `known`: whether this directory issued it.
    """

    look_up: str
    known: bool
    works: bool
    client_id: str = ""
    client_name: str = ""
    credential: Credential | None = None
