"""Access reviews."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Query, Request, Response

from jamb.actions.audit import review_outcomes, reviews
from jamb.actions.audit.review_views import ReviewView
from jamb.actions.base.act import Act
from jamb.core.audit.reviews import Answer, ReviewScope
from jamb.service.callers import may
from jamb.service.http.paging import (
    DEFAULT_LIMIT,
    Cursor,
    Limit,
    bad_cursor,
    onward,
    unpack,
    unpack_position,
)
from jamb.service.http.routing import api_router
from jamb.store.audit.reviews import Position
from jamb.wire.audit import reviews as wire
from jamb.wire.base.shapes import Page

router = api_router("/api/v1/directories/{directory}", tags=["reviews"])


@router.get("/reviews")
def list_reviews(
    act: Annotated[Act, may("reviews.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name")] = "",
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Review]:
    """Access reviews, the latest first."""
    found, after, total = reviews.list_reviews(act, q, unpack_position(cursor), limit)
    return Page[wire.Review](items=[_review(one) for one in found], next=onward(request, response, after), total=total)


@router.post("/reviews/preview")
def preview_review(act: Annotated[Act, may("reviews.preview")], sent: wire.ReviewScope) -> wire.ReviewPreview:
    """How many would be asked about how much. Changes nothing."""
    found = reviews.preview_review(act, _scope(sent))
    return wire.ReviewPreview(
        clients=found.clients, items=found.items, owners=found.owners, ownerless=list(found.ownerless)
    )


@router.post("/reviews", status_code=201)
def start_review(sent: wire.NewReview, act: Annotated[Act, may("reviews.start")]) -> wire.Review:
    """Start a review: owners are asked about every grant and role in its scope."""
    return _review(reviews.start_review(act, sent.name, _scope(sent.scope), sent.days))


@router.get("/reviews/{review}")
def read_review(act: Annotated[Act, may("reviews.read")], review: UUID) -> wire.Review:
    """A review, with how many items have which answer."""
    return _review(reviews.read_review(act, review))


@router.get("/reviews/{review}/items")
def list_items(
    act: Annotated[Act, may("reviews.list-items")],
    review: UUID,
    request: Request,
    response: Response,
    answer: Annotated[Answer | None, Query(description="Those answered so alone; empty: those that wait")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.ReviewItem]:
    """Items of a review, by client, the heaviest of each first."""
    found, after = reviews.list_items(act, review, _position(cursor), limit, answer)
    following = onward(request, response, after)
    return Page[wire.ReviewItem](items=found, next=following)


@router.get("/my-reviews")
def my_reviews(act: Annotated[Act, may("reviews.mine")]) -> list[wire.ReviewWithItems]:
    """The open reviews in which the caller is asked about clients they own, with what they are asked."""
    if act.actor.kind != "person":
        return []
    found = reviews.my_reviews(act, UUID(act.actor.id))
    return [_with_items(review, items) for review, items in found]


@router.post("/clients/{client}/reviews/{review}/answers")
def answer(
    client: str,
    review: UUID,
    sent: wire.ReviewAnswers,
    act: Annotated[Act, may("reviews.answer")],
) -> list[wire.ReviewItem]:
    """Answer for items of one client, all or none. It can be answered anew until the review is closed."""
    said = [
        reviews.Said(one.item, one.answer, one.words, one.narrower.value() if one.narrower is not None else None)
        for one in sent.answers
    ]
    return reviews.answer(act, review, client, said)


@router.post("/reviews/{review}/closing")
def close_review(review: UUID, act: Annotated[Act, may("reviews.close")]) -> wire.Review:
    """Close a review before its end. What nobody answered is proposed for withdrawal; nothing is withdrawn by that."""
    return _review(reviews.close_review(act, review))


@router.post("/reviews/{review}/carrying-out")
def carry_out(
    review: UUID,
    sent: wire.CarryOut,
    act: Annotated[Act, may("reviews.carry-out")],
) -> wire.CarriedOut:
    """Make answers so, each item by itself, a hundred a call; it goes on where a run was stopped."""
    done = review_outcomes.carry_out(act, review, sent.items, sent.after)
    failed = [wire.FailedItem(item=item, why=why) for item, why in done.failed]
    return wire.CarriedOut(done=list(done.done), failed=failed, next=done.next)


def _position(cursor: str | None) -> Position | None:
    if cursor is None:
        return None
    match unpack(cursor):
        case [str() as name, str() as client, int() | float() as weight, str() as item]:
            try:
                return name, client, float(weight), UUID(item)
            except ValueError as error:
                raise bad_cursor(cursor) from error
    raise bad_cursor(cursor)


def _scope(sent: wire.ReviewScope) -> ReviewScope:
    return ReviewScope(sent.resource, sent.data, tuple(sent.clients))


def _review(one: ReviewView) -> wire.Review:
    return wire.Review(
        id=one.id,
        name=one.name,
        about=one.scope.words,
        started_at=one.started_at,
        started_by=one.started_by,
        ends_at=one.ends_at,
        closed_at=one.closed_at,
        answers=one.answers,
        done=one.done,
    )


def _with_items(review: ReviewView, items: list[wire.ReviewItem]) -> wire.ReviewWithItems:
    return wire.ReviewWithItems(review=_review(review), items=items)
