"""Removed clients, with what ended by that, so that they can be restored for a while."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import Column, ForeignKey, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base import pages
from jamb.store.base.columns import document, has, moment


class RemovalRow(SQLModel, table=True):
    """`name`: which the client had, and may have again. `ended`: its consents and roles, as they were."""

    __tablename__ = "removal"

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    removed_at: datetime = moment()
    removed_by: str = Field(sa_type=Text)
    reason: str = Field(default="", sa_type=Text)
    restore_until: datetime = moment()
    name: str = Field(sa_type=Text)
    ended: dict[str, list[dict[str, Any]]] = document()


def removals_of(
    session: Session, directory_id: UUID, query: str, after: tuple[datetime, str] | None, limit: int
) -> tuple[list[RemovalRow], int]:
    """Return a page of what was removed, the latest first, and how many are found in all.

    Args:
        query: in the name, or how the client id begins.
        after: when the last one of the page before was removed, and its id.
    """
    wanted = select(RemovalRow).where(RemovalRow.directory_id == directory_id)
    if query:
        begins = col(RemovalRow.client_id).startswith(query.lower(), autoescape=True)
        wanted = wanted.where(has(RemovalRow.name, query) | begins)
    page = pages.latest_first(wanted, RemovalRow.removed_at, RemovalRow.client_id, after, limit)
    return list(session.exec(page)), pages.count_of(session, wanted)
