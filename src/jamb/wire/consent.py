"""Asks and consent."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.permissions import AccessKind
from jamb.wire.base import Answered, Moment, Sent
from jamb.wire.resources import Operation

Name = Annotated[str, Field(min_length=1, max_length=80)]


class NewAsk(Sent):
    """Permissions of one resource (by its short name or identifier), all asked or none."""

    resource: Annotated[str, Field(min_length=1, max_length=300)]
    permissions: Annotated[list[Name], Field(min_length=1, max_length=100)]
    kind: AccessKind = AccessKind.APPLICATION
    reason: Annotated[str, Field(max_length=500)] = ""


class Ask(Answered):
    id: UUID
    resource: str
    permission: str
    kind: AccessKind
    reason: str
    asked_at: Moment
    asked_by: str


class ConsentAtResource(Answered):
    """What becomes newly possible at one resource, heaviest first, and what of it comes by implication."""

    resource: str
    title: str
    asks: list[Ask]
    newly: list[Operation]
    unchanged: list[Operation]
    added_weight: int
    implied: list[str]
    redundant: list[str]


class ConsentPreview(Answered):
    client_id: str
    client_name: str
    purpose: str
    resources: list[ConsentAtResource]


class NewConsent(Sent):
    """`asks`: which of the waiting asks; all of them when left out."""

    asks: Annotated[list[UUID], Field(min_length=1, max_length=200)] | None = None
    reason: Annotated[str, Field(max_length=500)] = ""


class ConsentWithdrawal(Sent):
    """Which granted permissions of one resource to end, all or none."""

    resource: Annotated[str, Field(min_length=1, max_length=300)]
    permissions: Annotated[list[Name], Field(min_length=1, max_length=100)]
    kind: AccessKind = AccessKind.APPLICATION
    reason: Annotated[str, Field(max_length=500)] = ""


class WithdrawnConsent(Answered):
    """`tokens_until`: when the last token from before runs out."""

    resource: str
    permissions: list[str]
    no_longer: list[str]
    tokens_until: Moment


class Grant(Answered):
    resource: str
    permission: str
    kind: AccessKind
    granted_at: Moment
    granted_by: str
