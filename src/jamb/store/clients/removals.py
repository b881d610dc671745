"""Removed clients, with what ended by that, so that they can be restored for a while."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import Column, ForeignKey, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import document, moment


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


def removals_of(session: Session, directory_id: UUID, limit: int) -> list[RemovalRow]:
    """Return what was removed, the latest first."""
    wanted = select(RemovalRow).where(RemovalRow.directory_id == directory_id)
    return list(session.exec(wanted.order_by(col(RemovalRow.removed_at).desc(), RemovalRow.client_id).limit(limit)))
