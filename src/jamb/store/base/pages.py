"""Pages of lists: so many rows from a place in an order on, and how many there are in all."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, TypeVar
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session, col
from sqlmodel.sql.expression import SelectOfScalar

from jamb.store.base.columns import MOMENT

RowT = TypeVar("RowT")


def count_of(session: Session, wanted: sa.Select[Any] | SelectOfScalar[Any]) -> int:
    return int(session.execute(sa.select(sa.func.count()).select_from(wanted.order_by(None).subquery())).scalar_one())


def by_name(
    session: Session, wanted: SelectOfScalar[RowT], name: Any, after: str | None, limit: int
) -> tuple[Sequence[RowT], int]:
    """Return a page in order of a name that is nobody else's, and how many rows there are in all.

    Args:
        after: the name of the last one of the page before.
    """
    total = count_of(session, wanted)
    if after is not None:
        wanted = wanted.where(col(name) > after)
    return session.exec(wanted.order_by(col(name)).limit(limit)).all(), total


def latest_first(wanted: Any, at: Any, key: Any, after: tuple[datetime, UUID | str] | None, limit: int) -> Any:
    """Return the statement of a page in order of a moment, the latest first, and of a key.

    Args:
        after: moment and key of the last one of the page before.
    """
    if after is not None:
        last = sa.tuple_(sa.literal(after[0], MOMENT), sa.literal(after[1]))
        wanted = wanted.where(sa.tuple_(col(at), col(key)) < last)
    return wanted.order_by(col(at).desc(), col(key).desc()).limit(limit)
