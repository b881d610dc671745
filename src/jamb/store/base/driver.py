"""Statements that are compiled once from the tables and run on the driver, beside the ORM (decisions 4 and 79)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, cast

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import psycopg as dialect
from sqlmodel import SQLModel


def table_of(row: type[SQLModel]) -> sa.Table:
    return cast("sa.Table", row.__table__)  # type: ignore[attr-defined]


def compiled(statement: sa.sql.ClauseElement) -> str:
    """Return a statement with its parameters by name, as the driver takes it."""
    return str(statement.compile(dialect=dialect.dialect()))  # type: ignore[no-untyped-call]


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
