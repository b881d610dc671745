"""Sums of other tables by directory, some of them by day: kept as rows come and go, so that a reader adds up a few.

Triggers note each change as a part of its own, for writers never to wait for each other at a sum; `PUT_TOGETHER` makes
one row of the parts. What is right at any moment is the sum of all rows of a kind (decision 95).
"""

from __future__ import annotations

from collections.abc import Iterable
from datetime import date
from enum import StrEnum
from functools import cache
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, Date, Identity, Index, Text
from sqlmodel import Field, Session, SQLModel

from jamb.store.base.reading import Reading, one

# Decimals of what is added up: weights have three.
_DECIMALS = 3


class SumOf(StrEnum):
    """What is added up. The last three are by day: of the change, or of the expiry; without one: what never expires."""

    CLIENTS = "clients"
    ASKED = "asked"
    GRANTED = "granted"
    USED = "used"
    WAITING = "waiting"
    GRANTED_WEIGHT = "granted weight"
    UNUSED_WEIGHT = "unused weight"
    EARLY_WEIGHT = "early weight"
    GRANTED_WEIGHT_ROSE = "granted weight rose"
    UNUSED_WEIGHT_ROSE = "unused weight rose"
    EXPIRING = "expiring"


class KeptSumRow(SQLModel, table=True):
    """A sum, or a part of it. `whole`: what parts were put together to."""

    __tablename__ = "kept_sum"
    __table_args__ = (
        Index("kept_sum_by_day", "directory_id", "sum_of", "day", postgresql_include=["amount"]),
        Index("kept_sum_in_parts", "id", postgresql_where=sa.text("not whole")),
    )

    id: int = Field(sa_column=Column(BigInteger, Identity(), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    sum_of: str = Field(sa_type=Text)
    day: date | None = Field(default=None, sa_column=Column(Date, nullable=True))
    amount: float
    whole: bool = Field(default=False, sa_column_kwargs={"server_default": sa.false()})


# So many parts are put together at a time.
_MOST_PARTS = 100_000
# "sums", as a number: it is only ever compared with itself.
_LOCK = 0x73756D73
# One process does so at a time, and moves what it deletes: nothing counts twice, and none waits for another.
PUT_TOGETHER = f"""
WITH turn AS MATERIALIZED (
    SELECT pg_try_advisory_xact_lock({_LOCK}) AS mine
), changed AS (
    SELECT DISTINCT directory_id, sum_of, day
      FROM turn CROSS JOIN LATERAL (SELECT * FROM kept_sum WHERE NOT whole AND mine LIMIT {_MOST_PARTS}) part
), parts AS (
    DELETE FROM kept_sum USING changed
     WHERE kept_sum.directory_id = changed.directory_id AND kept_sum.sum_of = changed.sum_of
       AND kept_sum.day IS NOT DISTINCT FROM changed.day
    RETURNING kept_sum.*
)
INSERT INTO kept_sum (directory_id, sum_of, day, amount, whole)
SELECT directory_id, sum_of, day, sum(amount), true FROM parts GROUP BY directory_id, sum_of, day
"""  # noqa: S608 - a number of our own


def totals(directory_id: UUID, *sums: SumOf) -> Reading[tuple[float, ...]]:
    """The sums of a directory, in this order."""
    return Reading(_totals(sums), {"directory": directory_id}, lambda rows: _rounded(one(rows)))


@cache
def _totals(sums: tuple[SumOf, ...]) -> sa.TextualSelect:
    return sa.text(f"select {_amounts(sums)} from kept_sum where {_among(sums)}").columns(*_columns(sums))  # noqa: S608 - of our own


def by_day(directory_id: UUID, *sums: SumOf) -> Reading[list[tuple[date, tuple[float, ...]]]]:
    """The sums of each day that has any, the earliest first."""
    return Reading(
        _by_day(sums),
        {"directory": directory_id},
        lambda rows: [(day, _rounded(amounts)) for day, *amounts in rows],
    )


@cache
def _by_day(sums: tuple[SumOf, ...]) -> sa.TextualSelect:
    wanted = f"select day, {_amounts(sums)} from kept_sum where {_among(sums)} group by day order by day"  # noqa: S608 - of our own
    return sa.text(wanted).columns(sa.column("day", Date), *_columns(sums))


def _rounded(amounts: Iterable[float]) -> tuple[float, ...]:
    """Return sums without what adding them up in another order would have left out; nothing is never below nothing."""
    return tuple(round(amount, _DECIMALS) + 0.0 for amount in amounts)


# What is added up is part of the statement, which is made once for each.
def _amounts(sums: tuple[SumOf, ...]) -> str:
    return ", ".join(
        f"coalesce(sum(amount) filter (where sum_of = '{wanted}'), 0) as amount_{place}"
        for place, wanted in enumerate(sums)
    )


def _among(sums: tuple[SumOf, ...]) -> str:
    named = ", ".join(f"'{wanted}'" for wanted in sums)
    return f"directory_id = :directory and sum_of in ({named})"


def _columns(sums: tuple[SumOf, ...]) -> list[sa.ColumnClause[float]]:
    return [sa.column(f"amount_{place}", sa.Float) for place in range(len(sums))]


_COUNT_ANEW = (
    sa.text("delete from kept_sum where directory_id = :directory"),
    sa.text(
        "insert into kept_sum (directory_id, sum_of, day, amount, whole) "
        "select directory_id, sum_of, day, amount, true from counted_sum where directory_id = :directory"
    ),
)


def count_anew(session: Session, directory_id: UUID) -> None:
    """Count a directory's sums from their rows, where these came past the triggers. Nobody may write meanwhile."""
    for statement in _COUNT_ANEW:
        session.execute(statement, {"directory": directory_id})
