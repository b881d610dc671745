"""Access reviews: what each owner is asked to confirm, and what they answered."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base import pages
from jamb.store.base.columns import among, among_ids, bound, document, has, moment
from jamb.store.clients.clients import ClientRow

# Reviews in one answer or round.
MOST_OPEN = 1000


class ReviewRow(SQLModel, table=True):
    """`scope`: which clients and grants it is about."""

    __tablename__ = "review"
    __table_args__ = (Index("review_by_directory", "directory_id", "started_at"),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    name: str = Field(sa_type=Text)
    scope: dict[str, Any] = document()
    started_at: datetime = moment()
    started_by: str = Field(sa_type=Text)
    ends_at: datetime = moment()
    closed_at: datetime | None = moment(nullable=True)
    closed_by: str = Field(default="", sa_type=Text)


class ReviewItemRow(SQLModel, table=True):
    """One grant or role of a client. `answer`: empty, confirm, narrow, give-up, or proposed when nobody answered.

    `through`: the role by which it is held; `narrower`: the reach that would do; `done_at`: what was answered is so.
    """

    __tablename__ = "review_item"
    __table_args__ = (
        UniqueConstraint(
            "review_id", "client_id", "resource_id", "permission", "kind", "through", name="reviewed_once"
        ),
        Index("review_item_by_client", "client_id"),
    )

    id: UUID = Field(primary_key=True)
    review_id: UUID = Field(foreign_key="review.id")
    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), nullable=False))
    resource_id: UUID = Field(foreign_key="resource.id")
    permission: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    through: str = Field(default="", sa_type=Text)
    reach: dict[str, list[str]] | None = bound()
    weight: float = 0
    answer: str = Field(default="", sa_type=Text)
    words: str = Field(default="", sa_type=Text)
    narrower: dict[str, list[str]] | None = bound()
    answered_at: datetime | None = moment(nullable=True)
    answered_by: str = Field(default="", sa_type=Text)
    done_at: datetime | None = moment(nullable=True)
    done_by: str = Field(default="", sa_type=Text)


def review_by_id(session: Session, directory_id: UUID, review_id: UUID, *, lock: bool = False) -> ReviewRow | None:
    wanted = select(ReviewRow).where(ReviewRow.id == review_id, ReviewRow.directory_id == directory_id)
    return session.exec(wanted.with_for_update() if lock else wanted).first()


def reviews_of(session: Session, directory_id: UUID, limit: int) -> list[ReviewRow]:
    """Return the reviews of a directory, the latest first."""
    wanted = select(ReviewRow).where(ReviewRow.directory_id == directory_id)
    return list(session.exec(wanted.order_by(col(ReviewRow.started_at).desc(), col(ReviewRow.id)).limit(limit)))


def open_of(session: Session, directory_id: UUID) -> list[ReviewRow]:
    """Return the reviews of a directory that are open, the one that ends first before the others."""
    wanted = select(ReviewRow).where(ReviewRow.directory_id == directory_id, col(ReviewRow.closed_at).is_(None))
    return list(session.exec(wanted.order_by(col(ReviewRow.ends_at), col(ReviewRow.id)).limit(MOST_OPEN)))


def closed_since(session: Session, directory_id: UUID, since: datetime) -> list[ReviewRow]:
    closed = select(ReviewRow).where(ReviewRow.directory_id == directory_id, col(ReviewRow.closed_at) > since)
    return list(session.exec(closed.order_by(col(ReviewRow.closed_at)).limit(MOST_OPEN)))


def reviews_page(
    session: Session, directory_id: UUID, query: str, after: tuple[datetime, UUID] | None, limit: int
) -> tuple[list[ReviewRow], int]:
    """Return a page of the reviews of a directory, the latest first, and how many are found in all.

    Args:
        query: in the name.
        after: when the last one of the page before was started, and its id.
    """
    wanted = select(ReviewRow).where(ReviewRow.directory_id == directory_id)
    if query:
        wanted = wanted.where(has(ReviewRow.name, query))
    page = pages.latest_first(wanted, ReviewRow.started_at, ReviewRow.id, after, limit)
    return list(session.exec(page)), pages.count_of(session, wanted)


def counts(session: Session, review_ids: Iterable[UUID]) -> dict[UUID, dict[str, int]]:
    """Return how many items have which answer, by review; those carried out count as done, too."""
    found: dict[UUID, dict[str, int]] = {}
    rows = session.execute(
        sa.select(
            col(ReviewItemRow.review_id),
            col(ReviewItemRow.answer),
            sa.func.count(),
            sa.func.count(col(ReviewItemRow.done_at)),
        )
        .where(col(ReviewItemRow.review_id).in_(list(review_ids)))
        .group_by(col(ReviewItemRow.review_id), col(ReviewItemRow.answer))
    )
    for review_id, answer, count, done in rows:
        here = found.setdefault(review_id, {})
        here[answer] = count
        here["done"] = here.get("done", 0) + done
    return found


def items_of(
    session: Session, review_ids: Iterable[UUID], client_ids: Iterable[str] | None = None
) -> list[tuple[ReviewItemRow, str]]:
    """Return the items of reviews with the names of their clients, by client, the heaviest first."""
    wanted = (
        select(ReviewItemRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == ReviewItemRow.client_id)
        .where(among_ids(ReviewItemRow.review_id, review_ids))
    )
    if client_ids is not None:
        wanted = wanted.where(among(ReviewItemRow.client_id, client_ids))
    order = (ClientRow.folded_name, col(ReviewItemRow.weight).desc(), ReviewItemRow.permission, ReviewItemRow.through)
    return [(row, name) for row, name in session.exec(wanted.order_by(*order))]


# Where a page of items ends: name of the client folded, its id, the weight, the item.
Position = tuple[str, str, float, UUID]


def page_of_items(
    session: Session, review_id: UUID, limit: int, after: Position | None, answer: str | None
) -> tuple[list[tuple[ReviewItemRow, str]], Position | None]:
    """Return a page of a review's items in the order of `items_of`, and where it ends if there is more."""
    order = (
        col(ClientRow.folded_name),
        col(ClientRow.id),
        -col(ReviewItemRow.weight),
        col(ReviewItemRow.id),
    )
    wanted = (
        select(ReviewItemRow, ClientRow.name, ClientRow.folded_name)
        .join(ClientRow, col(ClientRow.id) == ReviewItemRow.client_id)
        .where(ReviewItemRow.review_id == review_id)
    )
    if answer is not None:
        wanted = wanted.where(ReviewItemRow.answer == answer)
    if after is not None:
        name, client_id, weight, item_id = after
        wanted = wanted.where(sa.tuple_(*order) > sa.tuple_(*map(sa.literal, (name, client_id, -weight, item_id))))
    rows = list(session.exec(wanted.order_by(*order).limit(limit + 1)))
    more = len(rows) > limit
    rows = rows[:limit]
    last = (rows[-1][2], rows[-1][0].client_id, rows[-1][0].weight, rows[-1][0].id) if more else None
    return [(row, name) for row, name, _ in rows], last


def to_carry_out(
    session: Session,
    review_id: UUID,
    answers: Iterable[str],
    limit: int,
    after: UUID | None,
    item_ids: Iterable[UUID] | None,
) -> list[ReviewItemRow]:
    """Return items so answered that are not carried out, by id: all after one, or those among some."""
    wanted = select(ReviewItemRow).where(
        ReviewItemRow.review_id == review_id,
        col(ReviewItemRow.done_at).is_(None),
        col(ReviewItemRow.answer).in_(list(answers)),
    )
    if after is not None:
        wanted = wanted.where(ReviewItemRow.id > after)
    if item_ids is not None:
        wanted = wanted.where(col(ReviewItemRow.id).in_(list(item_ids)))
    return list(session.exec(wanted.order_by(col(ReviewItemRow.id)).limit(limit)))


def open_with(
    session: Session, directory_id: UUID, now: datetime, *wanted: sa.ColumnElement[bool]
) -> list[tuple[ReviewRow, str, str, int]]:
    """Return (review, client, its name, how many items wait) for each client that an open review waits for.

    `wanted`: what more must hold of the review and the client.
    """
    rows = session.execute(
        sa.select(ReviewRow, col(ClientRow.id), col(ClientRow.name), sa.func.count())
        .join(ReviewItemRow, col(ReviewItemRow.review_id) == col(ReviewRow.id))
        .join(ClientRow, col(ClientRow.id) == col(ReviewItemRow.client_id))
        .where(
            col(ReviewRow.directory_id) == directory_id,
            col(ReviewRow.closed_at).is_(None),
            col(ReviewRow.started_at) <= now,
            col(ReviewItemRow.answer) == "",
            *wanted,
        )
        .group_by(col(ReviewRow.id), col(ClientRow.id), col(ClientRow.name))
        .order_by(col(ReviewRow.ends_at), col(ClientRow.name))
    )
    return [(row, client_id, name, count) for row, client_id, name, count in rows]


def add_items(session: Session, rows: Sequence[Mapping[str, object]]) -> None:
    """Add many items at once."""
    session.connection().execute(sa.insert(ReviewItemRow), list(rows))


def propose_unanswered(session: Session, review_id: UUID, answer: str) -> None:
    """Answer so whatever nobody answered."""
    session.execute(
        sa.update(ReviewItemRow)
        .where(col(ReviewItemRow.review_id) == review_id, col(ReviewItemRow.answer) == "")
        .values(answer=answer)
    )
