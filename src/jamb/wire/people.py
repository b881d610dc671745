"""People and sessions."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field, SecretStr

from jamb.wire.base import Answered, Moment, Sent


class SignIn(Sent):
    login: Annotated[str, Field(min_length=1, max_length=200)]
    password: Annotated[SecretStr, Field(min_length=1, max_length=200)]


class Person(Answered):
    id: UUID
    name: str
    login: str
    live: bool
    roles: list[str]


class Session(Answered):
    """Who is signed in, where, and the value to repeat in the header X-Jamb-CSRF of every change."""

    person: Person
    directory: str
    directory_name: str
    expires_at: Moment
    csrf: str


class Whoami(Answered):
    """Who the service takes the caller for, and which operations of Jamb's own API are open to them."""

    kind: str
    id: str
    name: str
    via: str
    directory: str
    roles: list[str]
    may: list[str]


class DeviceDecision(Sent):
    """The answer to a waiting device. There is no default: silence is no."""

    user_code: Annotated[str, Field(min_length=8, max_length=20)]
    approve: bool


class DeviceLookup(Sent):
    user_code: Annotated[str, Field(min_length=1, max_length=40)]


class WaitingDevice(Answered):
    client_id: str
    client_name: str
    directory: str
    asked_at: Moment
    expires_at: Moment
