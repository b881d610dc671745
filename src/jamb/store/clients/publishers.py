"""Publishers of clients from elsewhere, for which somebody here answers."""

from __future__ import annotations

from datetime import datetime
from functools import cache
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import moment, parameter
from jamb.store.base.reading import Reading


class PublisherRow(SQLModel, table=True):
    __tablename__ = "publisher"

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), primary_key=True))
    domain: str = Field(sa_column=Column(Text, primary_key=True))
    vouched_at: datetime = moment()
    vouched_by: str = Field(sa_type=Text)
    reason: str = Field(sa_type=Text)


def vouched_domains(directory_id: UUID) -> Reading[frozenset[str]]:
    return Reading(_domains(), {"directory": directory_id}, lambda rows: frozenset(domain for (domain,) in rows))


@cache
def _domains() -> sa.Select[str]:
    return sa.select(col(PublisherRow.domain)).where(col(PublisherRow.directory_id) == parameter("directory", sa.Uuid))


def vouched(session: Session, directory_id: UUID) -> list[PublisherRow]:
    return list(
        session.exec(
            select(PublisherRow).where(PublisherRow.directory_id == directory_id).order_by(PublisherRow.domain)
        )
    )
