"""Column kinds that several tables share. Every moment is stored with its zone, in UTC."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any
from uuid import UUID

from sqlalchemy import BindParameter, Column, ColumnElement, DateTime, LargeBinary, Text, Uuid, any_, bindparam
from sqlalchemy.dialects.postgresql import ARRAY, JSONB
from sqlmodel import Field, col

MOMENT = DateTime(timezone=True)


def moment(*, nullable: bool = False, index: bool = False) -> Any:
    return Field(default=None, sa_column=Column(MOMENT, nullable=nullable, index=index))


def words(server_default: str | None = None) -> Any:
    return Field(default_factory=list, sa_column=Column(ARRAY(Text), nullable=False, server_default=server_default))


def document(*, nullable: bool = False) -> Any:
    return Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=nullable))


def bound() -> Any:
    """A reach, as the members of an authorization detail; null is everywhere."""
    return Field(default=None, sa_column=Column(JSONB(none_as_null=True), nullable=True))


def blob(*, primary_key: bool = False, nullable: bool = False) -> Any:
    kept = Column(LargeBinary, nullable=nullable, primary_key=primary_key)
    return Field(default=None, sa_column=kept) if nullable else Field(sa_column=kept)


def among_ids(column: Any, values: Iterable[UUID]) -> ColumnElement[bool]:
    """Return "column is one of these ids" as one array parameter."""
    wanted: ColumnElement[bool] = column == any_(bindparam(None, list(values), ARRAY(Uuid)))
    return wanted


def among(column: Any, values: Iterable[str]) -> ColumnElement[bool]:
    """Return "column is one of these texts" as one array parameter: any number of values, one statement shape."""
    return col(column) == any_(bindparam(None, list(values), ARRAY(Text)))


def one_of(column: Any, name: str, kind: Any = Text) -> ColumnElement[bool]:
    """Return "column is one of these", for a statement that is made once: which ones is said when it is run."""
    wanted: ColumnElement[bool] = column == any_(bindparam(name, type_=ARRAY(kind)))
    return wanted


def parameter(name: str, kind: Any) -> BindParameter[Any]:
    """Return a value that is said when the statement is run: one that is made once costs nothing to make again."""
    return bindparam(name, type_=kind)


def has(column: Any, text: str) -> ColumnElement[bool]:
    """Return "column has this text in it, in any case of its letters"."""
    return col(column).ilike(f"%{escaped_word(text)}%")


def escaped_word(text: str) -> str:
    """Return a text as LIKE has it where no sign of it means anything else."""
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
