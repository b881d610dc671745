"""Requests for consent and the approvals they have so far."""

from __future__ import annotations

from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, Float, ForeignKey, Index, Text, Uuid
from sqlalchemy.dialects.postgresql import ARRAY
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import MOMENT, blob, document, moment, one_of, parameter, words
from jamb.store.base.reading import Reading, number
from jamb.store.clients.clients import ClientOwnerRow


class RequestRow(SQLModel, table=True):
    """An owner or registrar asks that some asks be consented to, or that a narrower grant be put in force.

    `dry_run_id`: what is in a dry run and to be put in force; then there are no asks. `act`: what else one person may
    not do alone (`core.agreements.ActKind`), with its `args`, known again by its `digest`; `subject` and `why` say in
    words about what and why it waits, `needed` how many others must agree. `done_at`, `outcome`: when it was done, and
    how that ended.
    """

    __tablename__ = "consent_request"
    __table_args__ = (
        Index("consent_request_by_state", "directory_id", "state", "due_at"),
        Index(
            "consent_request_act",
            "directory_id",
            "digest",
            postgresql_where=sa.text("digest IS NOT NULL AND state = 'waiting'"),
        ),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    client_id: str | None = Field(default=None, foreign_key="client.id", sa_type=Text, index=True)
    ask_ids: list[UUID] = Field(sa_column=Column(ARRAY(Uuid), nullable=False))
    dry_run_id: UUID | None = Field(default=None, foreign_key="dry_run.id", index=True)
    requested_by_id: str = Field(sa_type=Text)
    requested_by: str = Field(sa_type=Text)
    requested_at: datetime = moment()
    due_at: datetime = moment()
    reason: str = Field(sa_type=Text)
    questions: list[str] = words()
    answers: list[str] = words()
    weight: float = Field(sa_column=Column(Float, nullable=False))
    state: str = Field(sa_type=Text)
    # What the approvers so far said yes to; the second must say yes to the same.
    agreed: dict[str, object] | None = document(nullable=True)
    decided_at: datetime | None = moment(nullable=True)
    decided_by: str = Field(default="", sa_type=Text)
    said: str = Field(default="", sa_type=Text)
    act: str = Field(default="", sa_type=Text)
    args: dict[str, Any] | None = document(nullable=True)
    digest: bytes | None = blob(nullable=True)
    subject: str = Field(default="", sa_type=Text)
    why: str = Field(default="", sa_type=Text)
    needed: int = 0
    done_at: datetime | None = moment(nullable=True)
    outcome: str = Field(default="", sa_type=Text)


class ApprovalRow(SQLModel, table=True):
    __tablename__ = "request_approval"

    request_id: UUID = Field(sa_column=Column(ForeignKey("consent_request.id"), primary_key=True))
    approver_id: str = Field(primary_key=True, sa_type=Text)
    approver: str = Field(sa_type=Text)
    at: datetime = moment()
    said: str = Field(default="", sa_type=Text)


def by_id(session: Session, directory_id: UUID, request_id: UUID, *, lock: bool = False) -> RequestRow | None:
    statement = select(RequestRow).where(RequestRow.id == request_id, RequestRow.directory_id == directory_id)
    return session.exec(statement.with_for_update() if lock else statement).first()


def waiting_for(session: Session, client_id: str, now: datetime) -> list[RequestRow]:
    """Return the requests of a client that wait for a decision."""
    return list(
        session.exec(
            select(RequestRow).where(
                RequestRow.client_id == client_id, RequestRow.state == "waiting", col(RequestRow.due_at) > now
            )
        )
    )


def waiting_act(session: Session, directory_id: UUID, by_id: str, digest: bytes, now: datetime) -> RequestRow | None:
    """Return the request by which somebody waits for another person's yes to this very act."""
    return session.exec(
        select(RequestRow).where(
            RequestRow.directory_id == directory_id,
            RequestRow.digest == digest,
            RequestRow.state == "waiting",
            RequestRow.requested_by_id == by_id,
            col(RequestRow.due_at) > now,
        )
    ).first()


def agreed_act(session: Session, directory_id: UUID, by_id: str, digest: bytes, since: datetime) -> RequestRow | None:
    """Return, locked, the request by which others agreed to this very act since a moment, if it was not done yet."""
    return session.exec(
        select(RequestRow)
        .where(
            RequestRow.directory_id == directory_id,
            RequestRow.digest == digest,
            RequestRow.state == "granted",
            RequestRow.requested_by_id == by_id,
            col(RequestRow.decided_at) > since,
            col(RequestRow.done_at).is_(None),
        )
        .with_for_update()
    ).first()


def supersede(
    session: Session, directory_id: UUID, act: str, subject: str, now: datetime, but: bytes | None = None
) -> bool:
    """Take back what waits to change something that was just changed again, `but` this; tell whether anything did."""
    waiting = session.exec(
        select(RequestRow).where(
            RequestRow.directory_id == directory_id,
            RequestRow.act == act,
            RequestRow.subject == subject,
            RequestRow.state == "waiting",
            col(RequestRow.due_at) > now,
        )
    ).all()
    other = [row for row in waiting if row.digest != but]
    for row in other:
        row.state, row.decided_at = "withdrawn", now
        session.add(row)
    return bool(other)


def waiting_of(session: Session, directory_id: UUID, by_id: str, now: datetime) -> int:
    """Return how many acts of somebody wait for another person."""
    counted = sa.select(sa.func.count()).where(
        col(RequestRow.directory_id) == directory_id,
        col(RequestRow.requested_by_id) == by_id,
        col(RequestRow.act) != "",
        col(RequestRow.state) == "waiting",
        col(RequestRow.due_at) > now,
    )
    return int(session.execute(counted).scalar_one())


def waiting_in(directory_id: UUID, now: datetime) -> Reading[int]:
    """How many requests of a directory wait for a decision."""
    return Reading(_waiting(), {"directory": directory_id, "now": now}, number)


@cache
def _waiting() -> sa.Select[int]:
    return sa.select(sa.func.count()).where(
        col(RequestRow.directory_id) == parameter("directory", sa.Uuid),
        col(RequestRow.state) == "waiting",
        col(RequestRow.due_at) > parameter("now", MOMENT),
    )


def waiting_for_dry_run(session: Session, dry_run_id: UUID, now: datetime, *, lock: bool = False) -> list[RequestRow]:
    """Return the requests that wait for a decision on what is in a dry run."""
    wanted = select(RequestRow).where(
        RequestRow.dry_run_id == dry_run_id, RequestRow.state == "waiting", col(RequestRow.due_at) > now
    )
    return list(session.exec(wanted.with_for_update() if lock else wanted))


def page(
    session: Session,
    directory_id: UUID,
    *,
    now: datetime,
    waiting: bool,
    mine: str | None,
    after: tuple[datetime, UUID] | None,
    limit: int,
) -> list[RequestRow]:
    """Return waiting requests, the one due first before the others; or those past, latest first.

    `mine`: only those that this person made, or that concern a client they own.
    """
    statement = _page(waiting=waiting, limited=mine is not None, further=after is not None)
    asked = {"directory": directory_id, "now": now, "mine": mine, "most": limit}
    if after is not None:
        asked |= {"due": after[0], "id": after[1]}
    return list(session.scalars(statement, asked))


@cache
def _page(*, waiting: bool, limited: bool, further: bool) -> sa.Select[RequestRow]:
    open_now = (col(RequestRow.state) == "waiting") & (col(RequestRow.due_at) > parameter("now", MOMENT))
    statement = sa.select(RequestRow).where(col(RequestRow.directory_id) == parameter("directory", sa.Uuid))
    statement = statement.where(open_now if waiting else ~open_now)
    if limited:
        mine = parameter("mine", Text)
        owned = sa.select(col(ClientOwnerRow.client_id)).where(sa.cast(ClientOwnerRow.person_id, Text) == mine)
        statement = statement.where((col(RequestRow.requested_by_id) == mine) | col(RequestRow.client_id).in_(owned))
    key = sa.tuple_(col(RequestRow.due_at), col(RequestRow.id))
    if further:
        after = sa.tuple_(parameter("due", MOMENT), parameter("id", sa.Uuid))
        statement = statement.where(key > after if waiting else key < after)
    order = (
        (col(RequestRow.due_at), col(RequestRow.id))
        if waiting
        else (col(RequestRow.due_at).desc(), col(RequestRow.id).desc())
    )
    return statement.order_by(*order).limit(parameter("most", sa.Integer))


def approvals_of(session: Session, request_ids: list[UUID]) -> dict[UUID, list[ApprovalRow]]:
    found: dict[UUID, list[ApprovalRow]] = {}
    for row in session.scalars(_approvals(), {"requests": request_ids}) if request_ids else ():
        found.setdefault(row.request_id, []).append(row)
    return found


@cache
def _approvals() -> sa.Select[ApprovalRow]:
    given = sa.select(ApprovalRow).where(one_of(ApprovalRow.request_id, "requests", sa.Uuid))
    return given.order_by(col(ApprovalRow.at))


def waiting_of_client(session: Session, client_id: str) -> list[RequestRow]:
    """Return the requests of a client that nobody decided, lapsed ones too."""
    return list(
        session.exec(select(RequestRow).where(RequestRow.client_id == client_id, RequestRow.state == "waiting"))
    )
