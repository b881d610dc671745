"""Requests for consent."""

from __future__ import annotations

from typing import Annotated, Literal
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.core.consent.requests import RequestState
from jamb.wire.base.shapes import Answered, Moment, Names, Sent
from jamb.wire.base.text import Said
from jamb.wire.consent.consent import ConsentPreview, Terms
from jamb.wire.consent.rightsizing import DryRun
from jamb.wire.resources.reach import Reach
from jamb.wire.resources.resources import ResourceChange

Words = Annotated[str, Field(max_length=500)]


class NewRequest(Sent):
    """`asks`: which of the waiting asks; all when left out. `answers`: by resource, in the order of its questions."""

    asks: Annotated[list[UUID], Field(min_length=1, max_length=200)] | None = None
    reason: Said
    answers: Annotated[dict[str, list[Words]], Field(max_length=100)] = Field(default_factory=dict)
    terms_accepted: StrictBool = False


class RequestDecision(Sent):
    """There is no default. `asks` and `terms` narrow what is granted; a decline takes words.

    `force`: put a narrower grant in force although its time is not over, or something was missed.
    """

    decision: Literal["grant", "decline"]
    asks: Annotated[list[UUID], Field(min_length=1, max_length=200)] | None = None
    terms: Terms | None = None
    words: Words = ""
    force: StrictBool = False


class Approval(Answered):
    approver_id: str
    approver: str
    at: Moment
    said: str


class QuestionAnswered(Answered):
    question: str
    answer: str


class AgreedTerms(Answered):
    """What the first of two approvers said yes to."""

    asks: list[UUID]
    reach: dict[str, Reach]
    expires_at: Moment | None
    person: str | None


class ConsentRequest(Answered):
    """`approvers`: how many must say yes. `said`: the words of whoever decided.

    `rightsizes`: the resource at which it asks for less than is held; empty where it asks for consent.
    `act`, `subject`, `why`: what else one person may not do alone, about what, and why another must agree; then
    `client_id` is empty where it is about no client, and `outcome` says how doing it ended. `could`: who could decide,
    told where one request is read and not in lists.
    """

    id: UUID
    client_id: str
    client_name: str
    purpose: str
    asks: list[str]
    requested_by_id: str
    requested_by: str
    requested_at: Moment
    due_at: Moment
    reason: str
    answers: list[QuestionAnswered]
    weight: float
    approvers: int
    approvals: list[Approval]
    agreed: AgreedTerms | None
    state: RequestState
    decided_at: Moment | None
    decided_by: str
    said: str
    rightsizes: str = ""
    act: str = ""
    subject: str = ""
    why: str = ""
    outcome: str = ""
    could: list[str] = Field(default_factory=list)


class Rightsized(Answered):
    """What a request to narrow is about: what is in a dry run, and what putting it in force would refuse."""

    dry_run: DryRun
    no_longer: Names
    narrower: Names


class Detail(Answered):
    label: str
    value: str


class RequestDossier(Answered):
    """A request with what granting it would change now; null once it is decided. `rightsized`: of a request to narrow.

    `details`, `change`: of an act that another must agree to, what would be done, and of a catalogue for whom.
    """

    request: ConsentRequest
    preview: ConsentPreview | None
    rightsized: Rightsized | None = None
    details: list[Detail] = Field(default_factory=list)
    change: ResourceChange | None = None
