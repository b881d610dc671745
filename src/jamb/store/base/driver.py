"""Statements that are compiled once from the tables and run on the driver, beside the ORM (decisions 4 and 79)."""

from __future__ import annotations

from typing import cast

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import psycopg as dialect
from sqlmodel import SQLModel


def table_of(row: type[SQLModel]) -> sa.Table:
    return cast("sa.Table", row.__table__)  # type: ignore[attr-defined]


def compiled(statement: sa.sql.ClauseElement) -> str:
    """Return a statement with its parameters by name, as the driver takes it."""
    return str(statement.compile(dialect=dialect.dialect()))  # type: ignore[no-untyped-call]
