"""Removing and restoring clients; publishers."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.wire.base.shapes import Answered, Moment, Sent
from jamb.wire.base.text import MaybeSaid, Said


class RemovalsAsked(Sent):
    clients: Annotated[list[Annotated[str, Field(min_length=1, max_length=80)]], Field(min_length=1, max_length=200)]


class StandingCredential(Answered):
    """A credential that works, or would work again."""

    id: UUID
    hint: str


class RemovalPreview(Answered):
    """What a removal would take along. `against`: what must be done before; empty: it can be removed.

    `credentials`: those of `against`, to be withdrawn. `lasting`: what of `against` would stand still when it was
    disabled and they were withdrawn.
    `elsewhere`: clients and roles whose reach names it; they keep that, and the audit finds it.
    """

    client_id: str
    name: str
    against: list[str]
    lasting: list[str]
    credentials: list[StandingCredential]
    disabled_since: Moment | None
    last_used_at: Moment | None
    owners: list[str]
    consents: list[str]
    roles: list[str]
    requests: int
    elsewhere: list[str]


class RemovalSent(Sent):
    reason: MaybeSaid = ""


class Removed(Answered):
    """A removed client; until `restore_until` it can be restored, with these consents and roles."""

    client_id: str
    name: str
    removed_at: Moment
    removed_by: str
    reason: str
    restore_until: Moment
    consents: list[str]
    roles: list[str]


class Vouching(Sent):
    reason: Said


class Publisher(Answered):
    vouched_at: Moment
    vouched_by: str
    reason: str
    domain: str
