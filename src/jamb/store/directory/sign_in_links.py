"""Sign-in links, as they are kept: what opens one is derived from its id and is in no record."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime
from functools import cache
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import MOMENT, among, moment, parameter


class SignInLinkRow(SQLModel, table=True):
    """`made_by_id`: the person or client who saw it; empty: nobody but whoever it was mailed to, or the operator."""

    __tablename__ = "sign_in_link"

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id", index=True)
    person_id: UUID = Field(foreign_key="person.id", index=True)
    made_at: datetime = moment()
    made_by: str = Field(sa_type=Text)
    made_by_id: str = Field(default="", sa_type=Text, index=True)
    mailed: bool = False
    expires_at: datetime = moment(index=True)
    used_at: datetime | None = moment(nullable=True)
    replaced_at: datetime | None = moment(nullable=True)
    late_tries: int = 0


def link_by_id(session: Session, link_id: UUID, *, lock: bool = False) -> SignInLinkRow | None:
    statement = select(SignInLinkRow).where(SignInLinkRow.id == link_id)
    return session.exec(statement.with_for_update() if lock else statement).first()


def replace_links(session: Session, person_id: UUID, now: datetime) -> None:
    """End every link of a person that nobody used."""
    session.execute(
        sa.update(SignInLinkRow)
        .where(
            col(SignInLinkRow.person_id) == person_id,
            col(SignInLinkRow.used_at).is_(None),
            col(SignInLinkRow.replaced_at).is_(None),
        )
        .values(replaced_at=now)
    )


def makers_of(session: Session, person_id: UUID, now: datetime) -> list[str]:
    """Return who has seen a link that still opens: they could sign in as the person."""
    return list(session.scalars(_makers(), {"person": person_id, "now": now}))


@cache
def _makers() -> sa.Select[str]:
    return sa.select(col(SignInLinkRow.made_by_id)).where(
        col(SignInLinkRow.person_id) == parameter("person", sa.Uuid),
        col(SignInLinkRow.made_by_id) != "",
        col(SignInLinkRow.used_at).is_(None),
        col(SignInLinkRow.replaced_at).is_(None),
        col(SignInLinkRow.expires_at) > parameter("now", MOMENT),
    )


def people_by_links_of(
    session: Session, directory_id: UUID, ids: Collection[str], now: datetime, most: int
) -> list[UUID]:
    """Return the people as whom these could sign in by a link that they have seen."""
    return list(
        session.exec(
            select(SignInLinkRow.person_id)
            .where(
                SignInLinkRow.directory_id == directory_id,
                among(SignInLinkRow.made_by_id, ids),
                col(SignInLinkRow.used_at).is_(None),
                col(SignInLinkRow.replaced_at).is_(None),
                SignInLinkRow.expires_at > now,
            )
            .distinct()
            .limit(most)
        )
    )
