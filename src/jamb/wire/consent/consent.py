"""Asks and consent."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.consent.inheritance import InheritedLevel
from jamb.core.permissions import AccessKind
from jamb.wire.base.shapes import Answered, Moment, Names, Sent, SeveralLines
from jamb.wire.resources.reach import Reach, ReachSent
from jamb.wire.resources.resources import Operation

Name = Annotated[str, Field(min_length=1, max_length=80)]
ResourceName = Annotated[str, Field(min_length=1, max_length=300)]
Reason = Annotated[str, Field(max_length=500)]


class NewAsk(Sent):
    """Permissions of one resource (by its short name or identifier), all asked or none, with the reach wished for."""

    resource: ResourceName
    permissions: Annotated[list[Name], Field(min_length=1, max_length=100)]
    kind: AccessKind = AccessKind.APPLICATION
    reason: Reason = ""
    reach: ReachSent | None = None


class AskList(Sent):
    """A list from a manual: one permission a line or separated by commas, optionally after its resource."""

    text: Annotated[str, Field(min_length=1, max_length=50_000), SeveralLines()]
    kind: AccessKind = AccessKind.APPLICATION
    reason: Reason = ""


class ListedAsk(Answered):
    """`implied_by` brings it along anyway; `control` names what it opens beyond reading and writing."""

    resource: str
    permission: str
    kind: AccessKind
    weight: int
    asked: bool
    implied_by: str
    control: list[str]
    needed: bool


class UnclearName(Answered):
    name: str
    why: str


class CheckedList(Answered):
    asks: list[ListedAsk]
    unknown: list[str]
    unclear: list[UnclearName]


class Ask(Answered):
    """`implied_by`: another permission, asked or granted, that brings this one along."""

    id: UUID
    resource: str
    permission: str
    kind: AccessKind
    reason: str
    asked_at: Moment
    asked_by: str
    reach: Reach
    implied_by: str


class Terms(Sent):
    """How a consent is bounded: reach by resource (where silent, as each ask wishes), end, and one person."""

    reach: Annotated[dict[str, ReachSent], Field(max_length=100)] = Field(default_factory=dict)
    expires_at: Moment | None = None
    person: Annotated[str, Field(max_length=200)] | None = None


class ConsentDraft(Sent):
    """Which of the waiting asks (all when left out), within which terms."""

    asks: Annotated[list[UUID], Field(min_length=1, max_length=200)] | None = None
    terms: Terms | None = None


class AsksDeclined(Sent):
    """Which of the waiting asks (all when left out), and why, for whoever asked."""

    asks: Annotated[list[UUID], Field(min_length=1, max_length=200)] | None = None
    reason: Annotated[str, Field(min_length=1, max_length=500)]


class ObjectCount(Answered):
    """Over how many known objects an operation is possible, before and after; also over what lies in no collection?"""

    operation: str
    before: int
    after: int
    known: int
    uncollected: bool


class OtherHolders(Answered):
    permission: str
    names: list[str]
    count: int


class ConsentAtResource(Answered):
    """What becomes possible at one resource, heaviest first: `newly` at all, `wider` for more objects than before.

    `others`: who else holds the same. `redundant`: asked, and implied by another with at least that reach.
    `rules`: of collections whose objects change by a rule: consent to their reach is consent to that.
    """

    resource: str
    title: str
    kind: AccessKind
    object_name: str
    asks: list[Ask]
    reach: list[Reach]
    newly: list[Operation]
    wider: list[Operation]
    unchanged: list[Operation]
    objects: list[ObjectCount]
    added_weight: float
    implied: Names
    redundant: Names
    others: list[OtherHolders]
    rules: list[str] = Field(default_factory=list)


class ConsentPreview(Answered):
    """`two_people`: whoever asked may not consent. `approvers`: how many must say yes.

    `acting`: who can act as the client: they gain what it may do. `agreement`: why the yes of whoever looks would not
    do alone, who else could give one, and which way is open; empty: it would do.
    """

    client_id: str
    client_name: str
    purpose: str
    person: str
    weight: float
    two_people: bool
    approvers: int
    asked_by: list[str]
    asked_by_ids: list[str]
    resources: list[ConsentAtResource]
    acting: list[str] = Field(default_factory=list)
    agreement: str = ""


class NewConsent(Sent):
    """`asks`: which of the waiting asks; all of them when left out."""

    asks: Annotated[list[UUID], Field(min_length=1, max_length=200)] | None = None
    terms: Terms | None = None
    reason: Reason = ""


class ReachChange(Sent):
    """Another reach for granted permissions of one resource, all or none."""

    resource: ResourceName
    permissions: Annotated[list[Name], Field(min_length=1, max_length=100)]
    kind: AccessKind = AccessKind.APPLICATION
    reach: ReachSent
    person: Annotated[str, Field(max_length=200)] | None = None
    reason: Reason = ""


class ReachPreview(Answered):
    """What another reach would make possible, for more, for fewer or for no objects; `agreement`: who must agree."""

    newly: list[Operation]
    wider: list[Operation]
    narrower: list[str]
    no_longer: list[str]
    added_weight: float
    agreement: str


class ConsentWithdrawal(Sent):
    """Which granted permissions of one resource to end, all or none; `at` a moment to come, or now."""

    resource: ResourceName
    permissions: Annotated[list[Name], Field(min_length=1, max_length=100)]
    kind: AccessKind = AccessKind.APPLICATION
    at: Moment | None = None
    person: Annotated[str, Field(max_length=200)] | None = None
    reason: Reason = ""


class WithdrawnConsent(Answered):
    """`live_tokens` from before run out by `tokens_until`; guards refuse them within seconds of `ends_at`."""

    resource: str
    permissions: list[str]
    no_longer: Names
    ends_at: Moment
    tokens_until: Moment
    live_tokens: int


class Grant(Answered):
    """A consent in force. `person`: the one it covers; empty for everyone. `by_person`: they consented themselves."""

    id: UUID
    resource: str
    permission: str
    kind: AccessKind
    granted_at: Moment
    granted_by: str
    expires_at: Moment | None
    reach: Reach
    person: str
    by_person: bool


class DirectoryGrant(Grant):
    """A consent in force, with the client that has it."""

    client_id: str
    client_name: str


class ReachChanged(Answered):
    """The consents as they stand, and the operations that count for more, for fewer, or for no objects now."""

    grants: list[Grant]
    wider: list[str]
    narrower: list[str]
    no_longer: list[str]


class InheritedChoice(Sent):
    level: InheritedLevel = InheritedLevel.ALL
    reach: ReachSent | None = None


class InheritanceSent(Sent):
    """What is inherited, by resource: what is not named is not. Left out, everything one's roles allow."""

    choices: Annotated[dict[str, InheritedChoice], Field(max_length=100)] | None = None
    reason: Reason = ""


class InheritedPermission(Answered):
    permission: str
    reach: Reach


class InheritedLine(Answered):
    resource: str
    title: str
    roles: list[str]
    level: InheritedLevel
    permissions: list[InheritedPermission]
    operations: int
    weight: int


class Inheritance(Answered):
    """`granted` is empty where an approver must still consent."""

    lines: list[InheritedLine]
    asked: list[Ask]
    granted: list[Grant]
