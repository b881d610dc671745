"""Reports of use, from guards."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.permissions import AccessKind
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent

Calls = Annotated[int, Field(strict=True, ge=1, le=10**9), WHOLE]


class UsedOperation(Sent):
    """`objects`: how many of the calls were about which object, where the operation names one (an empty name: others).

    `people`: the subjects of the tokens, where the client acted for somebody.
    """

    client_id: Annotated[str, Field(max_length=80)]
    operation: Annotated[str, Field(max_length=80)]
    kind: AccessKind = AccessKind.APPLICATION
    calls: Calls
    last_at: Moment
    objects: Annotated[dict[Annotated[str, Field(max_length=200)], Calls], Field(max_length=1000)] = Field(
        default_factory=dict
    )
    people: Annotated[list[Annotated[str, Field(max_length=80)]], Field(max_length=1000)] = Field(default_factory=list)


class RefusedCalls(Sent):
    """Calls that the guard refused: `reason` is the error of the refusal (RFC 6750) or "reach"."""

    client_id: Annotated[str, Field(max_length=80)]
    operation: Annotated[str, Field(max_length=80)]
    kind: AccessKind = AccessKind.APPLICATION
    reason: Annotated[str, Field(min_length=1, max_length=60)]
    object: Annotated[str, Field(max_length=200)] = ""
    calls: Calls
    last_at: Moment


class UncountedCalls(Sent):
    """Calls that the guard let through or refused, and could not count."""

    calls: Calls
    since: Moment
    until: Moment


class UsageReport(Sent):
    """A batch; sent again with the same id it is counted once."""

    batch: UUID
    resource: Annotated[str, Field(max_length=300)]
    uses: Annotated[list[UsedOperation], Field(max_length=5000)] = Field(default_factory=list)
    refusals: Annotated[list[RefusedCalls], Field(max_length=5000)] = Field(default_factory=list)
    uncounted: Annotated[list[UncountedCalls], Field(max_length=100)] = Field(default_factory=list)


class UsageCounted(Answered):
    counted: int


class Refusals(Answered):
    """Calls of one operation that a protected API refused on one day."""

    resource: str
    operation: str
    title: str
    kind: AccessKind
    reason: str
    object: str
    calls: int
    last_at: Moment


class Revocation(Answered):
    """Of tokens of this kind issued until `until` (whole seconds) for this person, these permissions count only there.

    `client_id` empty: of any client. `kind` null: of either kind. `subject` null: whoever the token is for.
    `permissions` null: nothing of it counts. `reach` empty: nowhere.
    """

    client_id: str
    kind: AccessKind | None
    subject: str | None
    until: int
    permissions: list[str] | None
    reach: list[dict[str, list[str]]]


class GuardedOperation(Answered):
    """An operation, as a guard knows requests by. `any_of`: permissions of which one opens it; a token carries what its
    own imply. `object_in`: the path parameter that names its object; empty: it concerns none."""

    name: str
    method: str
    path: str
    any_of: list[str]
    object_in: str


class Revocations(Answered):
    """What a guard must know beside the keys. `collections`: path to all objects in it and below it; null where the
    guard knows those of this `collections_revision`.

    `revision`: of the catalogue. `operations`: of that revision, where the guard asks for them and knows another.
    """

    resource: str
    object_name: str
    revocations: list[Revocation]
    collections: dict[str, list[str]] | None
    collections_revision: int
    revision: int
    operations: list[GuardedOperation] | None = None
