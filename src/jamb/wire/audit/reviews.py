"""Access reviews."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.audit.reviews import LONGEST_DAYS, NAME_LONGEST, Answer
from jamb.core.permissions import AccessKind, DataClass
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent
from jamb.wire.base.text import NAMED, MaybeSaid
from jamb.wire.resources.reach import Reach, ReachSent


class ReviewScope(Sent):
    """`resource`: this one alone. `data`: grants that open data of this class or a graver one. `clients`: ids."""

    resource: Annotated[str, Field(max_length=300)] = ""
    data: DataClass = DataClass.OPEN
    clients: Annotated[list[str], Field(max_length=500)] = Field(default_factory=list)


ReviewName = Annotated[str, Field(min_length=1, max_length=NAME_LONGEST), NAMED]


class NewReview(Sent):
    name: ReviewName
    days: Annotated[int, Field(strict=True, ge=1, le=LONGEST_DAYS), WHOLE]
    scope: ReviewScope = Field(default_factory=ReviewScope)


class ReviewPreview(Answered):
    """`ownerless`: clients for which nobody can be asked; stewards answer for them."""

    clients: int
    items: int
    owners: int
    ownerless: list[str]


class Review(Answered):
    """`answers`: how many items have which, `waiting` among them; `done`: how many were carried out."""

    id: UUID
    name: str
    about: str
    started_at: Moment
    started_by: str
    ends_at: Moment
    closed_at: Moment | None
    answers: dict[str, int]
    done: int


class ReviewItem(Answered):
    """One grant or role with its use. `through`: the role; `opens`, `uses`: titles of operations.

    `answer`: empty: it waits; proposed: nobody answered in time.
    """

    id: UUID
    client_id: str
    client_name: str
    purpose: str
    resource: str
    permission: str
    title: str
    kind: AccessKind
    through: str
    reach: Reach
    weight: float
    opens: list[str]
    uses: list[str]
    used: str
    last_used_at: Moment | None
    collections: list[str]
    answer: Answer
    words: str
    narrower: Reach | None
    answered_at: Moment | None
    answered_by: str
    done_at: Moment | None


class ReviewWithItems(Answered):
    """What one person is asked in a review."""

    review: Review
    items: list[ReviewItem]


class ItemAnswer(Sent):
    """`answer`: confirm, narrow or give-up; `narrower`: where it would do, for what is to be narrowed."""

    item: UUID
    answer: Answer
    words: MaybeSaid = ""
    narrower: ReachSent | None = None


class ReviewAnswers(Sent):
    answers: Annotated[list[ItemAnswer], Field(min_length=1, max_length=500)]


class CarryOut(Sent):
    """`items`: these alone; null: all that is answered and not carried out. `after`: go on after this one."""

    items: Annotated[list[UUID] | None, Field(max_length=500)] = None
    after: UUID | None = None


class FailedItem(Answered):
    item: UUID
    why: str


class CarriedOut(Answered):
    """`next`: go on after this item; null: nothing is left."""

    done: list[UUID]
    failed: list[FailedItem]
    next: UUID | None
