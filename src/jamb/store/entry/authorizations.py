"""What clients ask of people, and what came of it: requests, codes, and the refresh tokens of each."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import among_ids, blob, document, moment, words


class AuthorizationRow(SQLModel, table=True):
    """What a person allowed a client to do for them, and the digest of the code by which the client learns it.

    `expires_at`: of the code, then of the last token that it can lead to.
    """

    __tablename__ = "person_authorization"
    __table_args__ = (
        UniqueConstraint("code_digest", name="authorization_code"),
        Index("authorization_by_end", "expires_at"),
        Index("authorization_of_person", "person_id"),
        Index("authorization_of_client", "client_id"),
        # Guards ask every few seconds what was ended.
        Index("authorization_of_sign_in", "sign_in", postgresql_where="sign_in IS NOT NULL"),
        Index("authorization_ended", "resource_id", "ended_at", postgresql_where="ended_at IS NOT NULL"),
        # What ended in the seconds of one change.
        Index("authorization_by_ending", "ended_at", postgresql_where="ended_at IS NOT NULL"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    # As `core.authorization.requests.Wanted` is kept.
    request: dict[str, Any] = document()
    created_at: datetime = moment()
    expires_at: datetime = moment()
    resource_id: UUID | None = Field(default=None, foreign_key="resource.id")
    # Names of permissions and of what is told about the person, as decided.
    scope: list[str] = words()
    person_id: UUID = Field(foreign_key="person.id")
    # When the person signed in.
    authenticated_at: datetime = moment()
    # The digest of the console session in which it was allowed: who signs out there is signed out here.
    sign_in: bytes | None = blob(nullable=True)
    # Whether they signed in with a second factor.
    second_factor: bool = Field(default=False, sa_column_kwargs={"server_default": sa.false()})
    passkey: bool = Field(default=False, sa_column_kwargs={"server_default": sa.false()})
    # The name of the outside provider by which they did; empty: by none.
    provider: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})
    code_digest: bytes = blob()
    redeemed_at: datetime | None = moment(nullable=True)
    ended_at: datetime | None = moment(nullable=True)
    # Why: the person, the client, a code or refresh token that came twice, a new password.
    ended_by: str = Field(default="", sa_type=Text)
    # Thumbprint of the key without which nothing is refreshed (RFC 9449 section 5); empty: it takes none.
    bound_to: str = Field(default="", sa_type=Text, sa_column_kwargs={"server_default": ""})


class RefreshTokenRow(SQLModel, table=True):
    """A refresh token of an authorization; each is used once (RFC 9700 section 4.14.2)."""

    __tablename__ = "refresh_token"
    __table_args__ = (
        Index("refresh_token_of_authorization", "authorization_id"),
        Index("refresh_token_by_end", "expires_at"),
    )

    digest: bytes = Field(sa_column=Column(sa.LargeBinary, primary_key=True))
    authorization_id: UUID = Field(
        sa_column=Column(ForeignKey("person_authorization.id", ondelete="CASCADE"), nullable=False)
    )
    created_at: datetime = moment()
    expires_at: datetime = moment()
    used_at: datetime | None = moment(nullable=True)


def by_code(session: Session, directory_id: UUID, digest: bytes) -> AuthorizationRow | None:
    """Return it locked: of two who redeem one code the second sees what the first did."""
    wanted = select(AuthorizationRow).where(
        AuthorizationRow.code_digest == digest, AuthorizationRow.directory_id == directory_id
    )
    return session.exec(wanted.with_for_update()).first()


def by_refresh_token(
    session: Session, directory_id: UUID, digest: bytes
) -> tuple[AuthorizationRow, RefreshTokenRow] | None:
    """Return a refresh token with its authorization, which is locked."""
    token = session.get(RefreshTokenRow, digest)
    if token is None:
        return None
    row = session.exec(
        select(AuthorizationRow).where(AuthorizationRow.id == token.authorization_id).with_for_update()
    ).one()
    session.refresh(token)
    return (row, token) if row.directory_id == directory_id else None


def refreshed_since(session: Session, authorization_id: UUID, since: datetime) -> int:
    """Return how many refresh tokens an authorization got since a moment."""
    mine = (col(RefreshTokenRow.authorization_id) == authorization_id) & (col(RefreshTokenRow.created_at) > since)
    return int(session.execute(sa.select(sa.func.count()).where(mine)).scalar_one())


def live(session: Session, authorization_id: UUID) -> bool:
    """Tell whether an authorization was not ended."""
    row = session.get(AuthorizationRow, authorization_id)
    return row is not None and row.ended_at is None


def end(session: Session, rows: Iterable[AuthorizationRow], by: str, now: datetime) -> None:
    for row in rows:
        if row.ended_at is None:
            row.ended_at, row.ended_by = now, by
            session.add(row)


def end_of_person(session: Session, person_id: UUID, by: str, now: datetime) -> None:
    """End all that a person allowed."""
    session.execute(
        sa.update(AuthorizationRow)
        .where(col(AuthorizationRow.person_id) == person_id, col(AuthorizationRow.ended_at).is_(None))
        .values(ended_at=now, ended_by=by)
        .execution_options(synchronize_session=False)
    )


def end_of_sign_in(session: Session, sign_in: bytes, offline: str, now: datetime) -> None:
    """End what a person allowed in a console session, and tell the clients.

    What goes on while they are away goes on (OpenID Connect Back-Channel Logout section 2.7); its client is told too.

    Args:
        offline: the scope value that lets it go on.
    """
    of_it = (col(AuthorizationRow.sign_in) == sign_in) & col(AuthorizationRow.ended_at).is_(None)
    goes_on = sa.literal(offline) == sa.func.any(col(AuthorizationRow.scope))
    session.execute(
        sa.text(
            "SELECT tell_of_sign_out(held, :now) FROM person_authorization held "
            "WHERE sign_in = :sign_in AND ended_at IS NULL AND :offline = ANY (scope)"
        ),
        {"sign_in": sign_in, "offline": offline, "now": now},
    )
    session.execute(
        sa.update(AuthorizationRow)
        .where(of_it, ~goes_on)
        .values(ended_at=now, ended_by="the person signed out")
        .execution_options(synchronize_session=False)
    )


def end_for_others(session: Session, client_id: str, people: Iterable[UUID], now: datetime) -> None:
    """End what a client may do for all but these people."""
    session.execute(
        sa.update(AuthorizationRow)
        .where(
            col(AuthorizationRow.client_id) == client_id,
            col(AuthorizationRow.ended_at).is_(None),
            ~among_ids(col(AuthorizationRow.person_id), people),
        )
        .values(ended_at=now, ended_by="the application is not for them any more")
        .execution_options(synchronize_session=False)
    )


def of_person(session: Session, person_id: UUID, now: datetime, most: int) -> list[AuthorizationRow]:
    """Return what a person allowed and what has not ended, newest first, so many at most."""
    return list(
        session.exec(
            select(AuthorizationRow)
            .where(
                AuthorizationRow.person_id == person_id,
                col(AuthorizationRow.ended_at).is_(None),
                col(AuthorizationRow.redeemed_at).is_not(None),
                col(AuthorizationRow.expires_at) > now,
            )
            .order_by(col(AuthorizationRow.created_at).desc())
            .limit(most)
        )
    )


class PersonNarrowedRow(SQLModel, table=True):
    """When what a person may do became less last: triggers note it, whichever way it came."""

    __tablename__ = "person_narrowed"

    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id", ondelete="CASCADE"), primary_key=True))
    at: datetime = moment(index=True)


PEOPLE_NARROWED = """
SELECT person_id, max(at) FROM (
    SELECT person_id, at FROM person_narrowed WHERE at > :since
    UNION ALL
    SELECT coalesce(held.person_id, inside), held.expires_at FROM role_assignment held
    LEFT JOIN LATERAL audit_people_in(held.group_id) inside ON held.group_id IS NOT NULL
    WHERE held.expires_at > :since AND held.expires_at <= :now AND held.client_id IS NULL
) narrowed
JOIN person ON person.id = person_id
WHERE person.directory_id = :directory
GROUP BY person_id ORDER BY person_id
"""


def people_narrowed_since(
    session: Session, directory_id: UUID, since: datetime, now: datetime
) -> list[tuple[UUID, datetime]]:
    """Return the people who may do less than they did, and since when, within this time."""
    values = {"directory": directory_id, "since": since, "now": now}
    return [(person_id, at) for person_id, at in session.execute(sa.text(PEOPLE_NARROWED), values)]


def narrowed_at(session: Session, client_id: str, person_id: UUID) -> datetime | None:
    """Return when something was taken away last of what a client may do for a person: guards refuse what is older."""
    ended = sa.select(sa.func.max(col(AuthorizationRow.ended_at))).where(
        col(AuthorizationRow.client_id) == client_id, col(AuthorizationRow.person_id) == person_id
    )
    narrowed = sa.select(col(PersonNarrowedRow.at)).where(col(PersonNarrowedRow.person_id) == person_id)
    found: datetime | None = session.execute(
        sa.select(sa.func.greatest(ended.scalar_subquery(), narrowed.scalar_subquery()))
    ).scalar_one()
    return found
