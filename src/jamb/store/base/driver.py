"""Statements that are compiled once from the tables and run on the driver, beside the ORM (decisions 4 and 79)."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, cast

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import psycopg as dialect
from sqlmodel import Session, SQLModel


def table_of(row: type[SQLModel]) -> sa.Table:
    return cast("sa.Table", row.__table__)  # type: ignore[attr-defined]


def compiled(statement: sa.sql.ClauseElement) -> str:
    """Return a statement with its parameters by name, as the driver takes it."""
    return str(statement.compile(dialect=dialect.dialect()))  # type: ignore[no-untyped-call]


# Rows of one statement of `insert_many`.
MOST_ROWS = 5_000


def insert_many(session: Session, row: type[SQLModel], rows: Sequence[Mapping[str, Any]], *, unless: str = "") -> int:
    """Insert rows, all of the same columns, as one document: to bind each value costs ten times as much.

    Args:
        unless: the constraint by which a row that is there already is passed over; empty: that is an error.

    Returns:
        how many were inserted.
    """
    inserted = 0
    for start in range(0, len(rows), MOST_ROWS):
        name, columns = row.__tablename__, ", ".join(f'"{column}"' for column in rows[0])
        statement = (
            f"INSERT INTO {name} ({columns}) "  # noqa: S608 - names of our own
            f"SELECT {columns} FROM json_populate_recordset(NULL::{name}, CAST(:rows AS json))"
            + (f" ON CONFLICT ON CONSTRAINT {unless} DO NOTHING" if unless else "")
        )
        document = json.dumps(rows[start : start + MOST_ROWS], default=_as_text)
        result = cast("sa.CursorResult[Any]", session.execute(sa.text(statement), {"rows": document}))
        inserted += result.rowcount
    return inserted


def _as_text(value: Any) -> str:
    """Return a value that JSON has none of as the database reads it from a text."""
    return f"\\x{value.hex()}" if isinstance(value, bytes) else str(value)


@dataclass(frozen=True, slots=True)
class Numbered:
    """A statement with its parameters by number (`$1`), and their names in that order.

    The driver takes it as it is. One with names it reads first, and keeps what it read only of short ones.
    """

    text: str
    names: tuple[str, ...]

    def values(self, by_name: Mapping[str, Any]) -> list[Any]:
        return [by_name[name] for name in self.names]


def numbered(statement: str) -> Numbered:
    """Return a statement whose parameters are `%(name)s` with numbers for names."""
    numbers: dict[str, int] = {}
    text = re.sub(r"%\((\w+)\)s", lambda found: f"${numbers.setdefault(found[1], len(numbers) + 1)}", statement)
    return Numbered(text, tuple(numbers))
