"""What is asked of the database and what its rows become; several of these in one statement.

A statement costs the service about a millisecond whatever comes back. What is asked of a few clients is sixteen small
answers: together they are one row, an array of JSON each. Of many clients each is a statement, for rows come faster so.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from functools import lru_cache
from typing import Any, Generic, TypeVar
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session

T = TypeVar("T")
U = TypeVar("U")
Rows = Iterable[Sequence[Any]]
_Statement = sa.Select[*tuple[Any, ...]] | sa.CompoundSelect[*tuple[Any, ...]] | sa.TextualSelect
# How JSON has what it has no word for. All else is as the driver would give it.
_READ: Mapping[type[Any], Callable[[str], object]] = {
    sa.DateTime: datetime.fromisoformat,
    sa.Date: date.fromisoformat,
    sa.Uuid: UUID,
}


@dataclass(frozen=True, slots=True)
class Reading(Generic[T]):
    """A statement that is made once, the values of its parameters now, and what its rows become."""

    statement: _Statement
    values: Mapping[str, Any]
    become: Callable[[Rows], T]

    def then(self, become: Callable[[T], U]) -> Reading[U]:
        """Return the same reading, of which something else is made."""
        return Reading(self.statement, self.values, lambda rows: become(self.become(rows)))

    def of(self, session: Session) -> T:
        return self.become(session.execute(self.statement, dict(self.values)))


def one(rows: Rows) -> Sequence[Any]:
    """Return the row of an answer that has one."""
    (row,) = rows
    return row


def number(rows: Rows) -> int:
    """Return what was counted."""
    return int(one(rows)[0])


@dataclass(slots=True)
class Answer(Generic[T]):
    """What a reading found, once it was read."""

    reading: Reading[T]
    _found: list[T] = field(default_factory=list)

    @property
    def value(self) -> T:
        return self._found[0]

    def come(self, rows: Rows) -> None:
        self._found.append(self.reading.become(rows))


@dataclass(slots=True)
class Readings:
    """Readings that are asked together. A parameter of one name has one value in all of them."""

    _asked: list[Answer[Any]] = field(default_factory=list)

    def add(self, reading: Reading[T]) -> Answer[T]:
        made = Answer(reading)
        self._asked.append(made)
        return made

    def read(self, session: Session, *, at_once: bool) -> None:
        """Read them all. `at_once`: in one statement, where few rows are to come."""
        if not at_once:
            for answer in self._asked:
                answer.come(session.execute(answer.reading.statement, dict(answer.reading.values)))
            return
        statements = tuple(answer.reading.statement for answer in self._asked)
        found = session.execute(_together(statements), self._values()).one()
        for answer, statement, rows in zip(self._asked, statements, found, strict=True):
            answer.come(_rows(rows, _readers(statement)))

    def _values(self) -> dict[str, Any]:
        values: dict[str, Any] = {}
        for answer in self._asked:
            for name, value in answer.reading.values.items():
                if values.setdefault(name, value) != value:
                    raise ValueError(f"{name} is asked for with two values: name one of them otherwise.")
        return values


@lru_cache(maxsize=64)
def _together(statements: tuple[_Statement, ...]) -> sa.Select[Any]:
    """Return a statement whose one row has the rows of each of these, in order, as JSON arrays of arrays."""
    parts = (statement.subquery(f"part_{number}") for number, statement in enumerate(statements))
    nothing: sa.ColumnClause[Any] = sa.literal_column("'[]'::json")
    return sa.select(
        *(
            sa.select(sa.func.coalesce(sa.func.json_agg(sa.func.json_build_array(*part.c)), nothing))
            .select_from(part)
            .scalar_subquery()
            for part in parts
        )
    )


@lru_cache(maxsize=256)
def _readers(statement: _Statement) -> tuple[tuple[int, Callable[[str], object]], ...]:
    """Return the columns that JSON has as text, each with what reads it."""
    kinds = [column.type for column in statement.selected_columns]
    return tuple(
        (place, read) for place, kind in enumerate(kinds) for known, read in _READ.items() if isinstance(kind, known)
    )


def _rows(rows: list[list[Any]], readers: Iterable[tuple[int, Callable[[str], object]]]) -> list[list[Any]]:
    for row in rows:
        for place, read in readers:
            if row[place] is not None:
                row[place] = read(row[place])
    return rows
