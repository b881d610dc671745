"""Notices to people, the mails that carry them, and what is pushed to webhooks."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime, timedelta
from typing import Any, NamedTuple, TypeVar
from uuid import UUID, uuid4

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.clients.clients import ClientState, OwnerLevel
from jamb.core.consent.requests import RequestState
from jamb.core.notices import Fact, is_urgent, wait_after
from jamb.store.base import pages
from jamb.store.base.columns import among_ids, blob, document, has, moment
from jamb.store.base.driver import insert_many
from jamb.store.clients.clients import ClientOwnerRow, ClientRow
from jamb.store.consent.requests import RequestRow
from jamb.store.credentials.credentials import CredentialRow, works
from jamb.store.credentials.handovers import HandoverRow
from jamb.store.credentials.rotations import RotationRow
from jamb.store.directory.directories import DirectoryRow
from jamb.store.directory.people import PersonRow
from jamb.store.notices.rounds import News
from jamb.store.resources.usage import AttemptRow

# How long a mail or push that a process took may be under way before another process takes it.
CLAIMED_FOR = timedelta(minutes=2)


class MailRow(SQLModel, table=True):
    """A mail to one person. `sent_at` or `failed`: it is done; `next_at`: not before."""

    __tablename__ = "mail"
    __table_args__ = (
        Index("mail_to_send", "next_at", postgresql_where=sa.text("sent_at IS NULL AND failed = ''")),
        Index("mail_of_person", "person_id", "made_at"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    person_id: UUID = Field(foreign_key="person.id")
    made_at: datetime = moment()
    next_at: datetime = moment()
    sent_at: datetime | None = moment(nullable=True)
    tries: int = 0
    error: str = Field(default="", sa_type=Text)
    failed: str = Field(default="", sa_type=Text)


class NoticeRow(SQLModel, table=True):
    """Something that one person hears of once: the key says what. `link`: sealed, what only its mail shall show."""

    __tablename__ = "notice"
    __table_args__ = (
        UniqueConstraint("person_id", "key", name="told_once"),
        Index("notice_untold", "directory_id", "person_id", postgresql_where=sa.text("mail_id IS NULL")),
        Index("notice_latest", "directory_id", "at"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    person_id: UUID = Field(foreign_key="person.id")
    key: str = Field(sa_type=Text)
    kind: str = Field(sa_type=Text)
    client_id: str = Field(sa_type=Text)
    words: str = Field(sa_type=Text)
    path: str = Field(sa_type=Text)
    link: bytes | None = blob(nullable=True)
    urgent: bool
    at: datetime = moment()
    mail_id: UUID | None = Field(default=None, sa_column=Column(ForeignKey("mail.id"), nullable=True, index=True))


class WebhookRow(SQLModel, table=True):
    """An address that hears of everything."""

    __tablename__ = "webhook"
    __table_args__ = (UniqueConstraint("directory_id", "url", name="webhook_there_already"),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    url: str = Field(sa_type=Text)
    made_at: datetime = moment()
    made_by: str = Field(sa_type=Text)
    made_by_id: str = Field(default="", sa_type=Text)
    recipient_key: dict[str, Any] | None = document(nullable=True)


class PushRow(SQLModel, table=True):
    """One event for one webhook, told once. `failed`: why it was given up; it can be tried anew."""

    __tablename__ = "push"
    __table_args__ = (
        UniqueConstraint("webhook_id", "key", name="pushed_once"),
        Index("push_to_send", "next_at", postgresql_where=sa.text("sent_at IS NULL AND failed = ''")),
    )

    id: UUID = Field(primary_key=True)
    webhook_id: UUID = Field(sa_column=Column(ForeignKey("webhook.id", ondelete="CASCADE"), nullable=False))
    key: str = Field(sa_type=Text)
    event: dict[str, Any] = document()
    made_at: datetime = moment()
    next_at: datetime = moment()
    sent_at: datetime | None = moment(nullable=True)
    tries: int = 0
    error: str = Field(default="", sa_type=Text)
    failed: str = Field(default="", sa_type=Text)


RowT = TypeVar("RowT", MailRow, PushRow)

# Facts


class Ending(NamedTuple):
    id: UUID
    client_id: str
    client_name: str
    hint: str
    expires_at: datetime
    last_used_at: datetime | None


def ending_soon(
    session: Session, directory_id: UUID, now: datetime, until: datetime, *wanted: sa.ColumnElement[bool]
) -> list[Ending]:
    """Return the credentials that work, end by a moment, and that nothing follows yet.

    `wanted`: what more must hold of them.
    """
    followed = sa.exists().where(col(RotationRow.old_id) == CredentialRow.id, col(RotationRow.ended).is_(None))
    rows = session.execute(
        sa.select(
            col(CredentialRow.id),
            col(CredentialRow.client_id),
            col(ClientRow.name),
            col(CredentialRow.hint),
            col(CredentialRow.expires_at),
            col(CredentialRow.last_used_at),
        )
        .join(ClientRow, col(ClientRow.id) == col(CredentialRow.client_id))
        .where(
            col(CredentialRow.directory_id) == directory_id,
            works(now),
            col(CredentialRow.expires_at) <= until,
            *wanted,
            ~followed,
            col(ClientRow.state) == ClientState.LIVE.value,
        )
    )
    return [Ending(*row) for row in rows]


class Tried(NamedTuple):
    client_id: str
    client_name: str
    hint: str
    outcome: str
    address: str
    times: int
    last_at: datetime


def dead_tries(session: Session, directory_id: UUID, outcomes: Iterable[str], news: News) -> list[Tried]:
    """Return who tried lately with a credential that is dead, by client and credential."""
    last = sa.func.max(col(AttemptRow.at))
    rows = session.execute(
        sa.select(
            col(AttemptRow.client_id),
            col(ClientRow.name),
            col(AttemptRow.hint),
            sa.func.max(col(AttemptRow.outcome)),
            sa.func.max(col(AttemptRow.address)),
            sa.func.sum(col(AttemptRow.times)),
            last,
        )
        .join(ClientRow, col(ClientRow.id) == col(AttemptRow.client_id))
        .where(
            col(AttemptRow.directory_id) == directory_id,
            col(AttemptRow.outcome).in_(list(outcomes)),
            news.lately(AttemptRow.client_id, AttemptRow.at),
        )
        .group_by(col(AttemptRow.client_id), col(ClientRow.name), col(AttemptRow.hint))
    )
    return [Tried(*row) for row in rows]


def requests_since(session: Session, directory_id: UUID, news: News, now: datetime) -> list[tuple[RequestRow, str]]:
    """Return the requests that wait, and are not lapsed, or were decided lately, with what they are about."""
    waiting = sa.and_(
        col(RequestRow.state) == RequestState.WAITING.value, col(RequestRow.due_at) > now, news.of(RequestRow.client_id)
    )
    rows = session.exec(
        select(RequestRow, ClientRow.name)
        .outerjoin(ClientRow, col(ClientRow.id) == RequestRow.client_id)
        .where(
            RequestRow.directory_id == directory_id,
            waiting | news.lately(RequestRow.client_id, RequestRow.decided_at),
        )
    )
    return [(row, name or row.subject) for row, name in rows]


def tried_again(session: Session, directory_id: UUID, news: News) -> list[tuple[HandoverRow, str]]:
    rows = session.exec(
        select(HandoverRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == HandoverRow.client_id)
        .where(HandoverRow.directory_id == directory_id, news.lately(HandoverRow.client_id, HandoverRow.late_at))
    )
    return [(row, name) for row, name in rows]


def owners_to_tell(session: Session, client_ids: Iterable[str], *, answering: bool = False) -> dict[str, list[UUID]]:
    """Return the live owners of clients who may do something about them, by client; `answering`: anything."""
    found: dict[str, list[UUID]] = {}
    wanted = sa.any_(sa.bindparam(None, list(client_ids), sa.ARRAY(Text)))
    rows = session.execute(
        sa.select(col(ClientOwnerRow.client_id), col(ClientOwnerRow.person_id))
        .join(PersonRow, col(PersonRow.id) == col(ClientOwnerRow.person_id))
        .where(
            col(ClientOwnerRow.client_id) == wanted,
            col(ClientOwnerRow.level) == OwnerLevel.FULL.value
            if answering
            else col(ClientOwnerRow.level) != OwnerLevel.READ.value,
            col(PersonRow.active),
        )
    )
    for client_id, person_id in rows:
        found.setdefault(client_id, []).append(person_id)
    return found


def webhook_ids(session: Session, directory_id: UUID) -> list[UUID]:
    return list(session.exec(select(WebhookRow.id).where(WebhookRow.directory_id == directory_id)))


def webhooks_of(session: Session, directory_id: UUID) -> list[WebhookRow]:
    mine = select(WebhookRow).where(WebhookRow.directory_id == directory_id)
    return list(session.exec(mine.order_by(col(WebhookRow.made_at))))


# Telling


def add_notices(session: Session, directory_id: UUID, told: Iterable[tuple[UUID, Fact]], now: datetime) -> int:
    """Keep what each person shall hear, but nothing that they heard of before; return how many are new."""
    rows = [
        {
            "id": uuid4(),
            "directory_id": directory_id,
            "person_id": person_id,
            "key": fact.key,
            "kind": fact.kind.value,
            "client_id": fact.client_id,
            "words": fact.words,
            "path": fact.path,
            "urgent": is_urgent(fact.kind),
            "at": now,
        }
        for person_id, fact in told
    ]
    return insert_many(session, NoticeRow, rows, unless="told_once")


def add_pushes(session: Session, webhook_ids: Iterable[UUID], events: dict[str, dict[str, Any]], now: datetime) -> int:
    """Keep what each webhook shall hear, but nothing that it heard of before."""
    rows = [
        {
            "id": uuid4(),
            "webhook_id": webhook_id,
            "key": key,
            "event": event,
            "made_at": now,
            "next_at": now,
            "tries": 0,
            "error": "",
            "failed": "",
        }
        for webhook_id in webhook_ids
        for key, event in events.items()
    ]
    return insert_many(session, PushRow, rows, unless="pushed_once")


def make_mails(session: Session, directory_id: UUID, now: datetime, quiet_since: datetime) -> int:
    """Make one mail for each person with something untold: at once if it is urgent, else not before the last is old.

    `quiet_since`: who had a mail after this moment hears of nothing but what is urgent.
    """
    untold = sa.and_(col(NoticeRow.directory_id) == directory_id, col(NoticeRow.mail_id).is_(None))
    lately = sa.exists().where(col(MailRow.person_id) == NoticeRow.person_id, col(MailRow.made_at) > quiet_since)
    people = session.execute(
        sa.select(col(NoticeRow.person_id)).where(untold, col(NoticeRow.urgent) | ~lately).distinct()
    ).scalars()
    mails = {person_id: uuid4() for person_id in people}
    for person_id, identity in mails.items():
        session.add(MailRow(id=identity, directory_id=directory_id, person_id=person_id, made_at=now, next_at=now))
    session.flush()
    fresh = among_ids(MailRow.id, mails.values())
    session.execute(
        sa.update(NoticeRow)
        .where(untold, col(MailRow.person_id) == col(NoticeRow.person_id), fresh)
        .values(mail_id=col(MailRow.id))
        .execution_options(synchronize_session=False)
    )
    return len(mails)


def claim(session: Session, table: type[RowT], now: datetime, *of: sa.ColumnElement[bool]) -> RowT | None:
    """Take the oldest that is due, so that no other process takes it for a while; None: there is none."""
    due = (
        select(table)
        .where(col(table.sent_at).is_(None), table.failed == "", table.next_at <= now, *of)
        .order_by(col(table.next_at))
        .limit(1)
        .with_for_update(skip_locked=True)
    )
    row = session.exec(due).first()
    if row is not None:
        row.next_at = now + CLAIMED_FOR
        session.add(row)
    return row


def webhooks_to_push(session: Session, now: datetime) -> list[UUID]:
    """Return the webhooks for which an event is due."""
    due = select(PushRow.webhook_id).where(col(PushRow.sent_at).is_(None), PushRow.failed == "", PushRow.next_at <= now)
    return list(session.exec(due.distinct()))


def forget_links(session: Session, mail_id: UUID) -> None:
    """Forget what only a mail was to show, once it is sent or given up."""
    session.execute(sa.update(NoticeRow).where(col(NoticeRow.mail_id) == mail_id).values(link=None))


def note_try(row: MailRow | PushRow, now: datetime, error: str) -> None:
    """Write down how a try ended: sent when there is no error; else when the next is due, or that it was given up."""
    row.tries += 1
    row.error = error[:300]
    if not error:
        row.sent_at = now
        return
    wait = wait_after(row.tries)
    if wait is None:
        row.failed = error[:300]
    else:
        row.next_at = now + wait


def take_turn(session: Session, directory_id: UUID) -> None:
    """Wait until nobody else tells the people of a directory: one after the other, until the transaction ends."""
    key = int.from_bytes(directory_id.bytes[:8], signed=True)
    session.execute(sa.text("select pg_advisory_xact_lock(:key)"), {"key": key})


def told(
    session: Session, directory_id: UUID, query: str, after: tuple[datetime, UUID] | None, limit: int
) -> list[tuple[NoticeRow, str, MailRow | None]]:
    """Return a page of notices with the person's name and the mail that carries each, the latest first.

    Args:
        query: in what was told, or in the person's name.
        after: when the last one of the page before was noted, and its id.
    """
    wanted = (
        select(NoticeRow, PersonRow.name, MailRow)
        .join(PersonRow, col(PersonRow.id) == NoticeRow.person_id)
        .join(MailRow, col(MailRow.id) == col(NoticeRow.mail_id), isouter=True)
        .where(NoticeRow.directory_id == directory_id)
    )
    if query:
        wanted = wanted.where(has(NoticeRow.words, query) | has(PersonRow.name, query))
    rows = session.exec(pages.latest_first(wanted, NoticeRow.at, NoticeRow.id, after, limit))
    return [(row, name, mail) for row, name, mail in rows]


def in_mail(session: Session, mail_id: UUID) -> list[NoticeRow]:
    """Return what one mail tells, in the order of its words."""
    return list(session.exec(select(NoticeRow).where(NoticeRow.mail_id == mail_id).order_by(NoticeRow.words)))


def drop_pushes(session: Session, webhook_id: UUID) -> None:
    session.execute(sa.delete(PushRow).where(col(PushRow.webhook_id) == webhook_id))


def dead_pushes(session: Session, webhook_id: UUID) -> list[PushRow]:
    """Return the events that were given up, the latest first."""
    wanted = select(PushRow).where(PushRow.webhook_id == webhook_id, PushRow.failed != "")
    return list(session.exec(wanted.order_by(col(PushRow.made_at).desc())))


def revive_pushes(session: Session, webhook_id: UUID, now: datetime) -> int:
    """Have the events that were given up tried anew; return how many."""
    dead = sa.and_(col(PushRow.webhook_id) == webhook_id, col(PushRow.failed) != "")
    revived = sa.update(PushRow).where(dead).values(failed="", tries=0, next_at=now).returning(col(PushRow.id))
    return len(session.execute(revived).all())


class PushCounts(NamedTuple):
    """How many events of a webhook wait, were given up, were taken; and what it said to the last that waits."""

    waiting: int
    dead: int
    taken: int
    last_error: str


def push_counts(session: Session, webhook_id: UUID) -> PushCounts:
    sent, failed = col(PushRow.sent_at), col(PushRow.failed)
    waiting, dead, taken = session.execute(
        sa.select(
            sa.func.count().filter(sent.is_(None), failed == ""),
            sa.func.count().filter(failed != ""),
            sa.func.count().filter(sent.is_not(None)),
        ).where(col(PushRow.webhook_id) == webhook_id)
    ).one()
    last = session.scalar(
        sa.select(col(PushRow.error))
        .where(col(PushRow.webhook_id) == webhook_id, col(PushRow.error) != "", sent.is_(None))
        .order_by(col(PushRow.next_at).desc())
        .limit(1)
    )
    return PushCounts(waiting, dead, taken, last or "")


def claim_push(session: Session, webhook_id: UUID, now: datetime) -> PushRow | None:
    """Take the next event of a webhook that is due; None when there is none, or another has it."""
    return claim(session, PushRow, now, col(PushRow.webhook_id) == webhook_id)


def webhook_with_directory(session: Session, webhook_id: UUID) -> tuple[WebhookRow, DirectoryRow] | None:
    row = session.exec(
        select(WebhookRow, DirectoryRow)
        .join(DirectoryRow, col(DirectoryRow.id) == WebhookRow.directory_id)
        .where(WebhookRow.id == webhook_id)
    ).first()
    return None if row is None else (row[0], row[1])
