"""How far a directory was told of: the rounds of its notices go on from there."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, ForeignKey
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import among, moment
from jamb.store.directory.ledger import LedgerEntryRow, LedgerHeadRow


class NoticeRoundRow(SQLModel, table=True):
    """`sequence`: of the last entry of the ledger that was there; `whole_at`: when all was looked at last."""

    __tablename__ = "notice_round"

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), primary_key=True))
    sequence: int = Field(sa_column=Column(BigInteger, nullable=False))
    told_at: datetime = moment()
    whole_at: datetime = moment()


class News(NamedTuple):
    """Of what there can be something new to tell, since a moment.

    Attributes:
        clients: of which something was changed; None: whatever stands is looked at.
        told_of: since when what happened is told to whoever has to do with its client now: they may be new to it.
    """

    since: datetime
    clients: Sequence[str] | None
    told_of: datetime

    def of(self, client_id: Any, *times: tuple[Any, Sequence[tuple[datetime, datetime]]]) -> sa.ColumnElement[bool]:
        """Return "it is of one of these clients, or one of its times is in one of these spans": after the first of
        each, not after the second.
        """
        if self.clients is None:
            return sa.true()
        spans = [(col(column) > after) & (col(column) <= until) for column, when in times for after, until in when]
        return sa.or_(among(client_id, self.clients), *spans)

    def lately(self, client_id: Any, column: Any) -> sa.ColumnElement[bool]:
        """Return "it happened since, or is of one of these clients and happened lately"."""
        late = col(column) > self.since
        return late | (among(client_id, self.clients) & (col(column) > self.told_of)) if self.clients else late


def find(session: Session, directory_id: UUID) -> NoticeRoundRow | None:
    return session.get(NoticeRoundRow, directory_id)


def last_sequence(session: Session, directory_id: UUID) -> int:
    """Return the number of the last entry of a directory's ledger."""
    head = select(LedgerHeadRow.sequence).where(LedgerHeadRow.directory_id == directory_id)
    return session.exec(head).one()


def changed(session: Session, directory_id: UUID, after: int, most: int) -> list[str | None]:
    """Return the clients that entries of the ledger after this one are about, each once; None: about something else."""
    entries = (
        sa.select(col(LedgerEntryRow.subject)["client"].astext.label("client"))
        .where(col(LedgerEntryRow.directory_id) == directory_id, col(LedgerEntryRow.sequence) > after)
        .distinct()
        .limit(most)
    )
    return list(session.execute(entries).scalars())


def keep_round(session: Session, row: NoticeRoundRow) -> None:
    """Keep how far a round came, with what it noted."""
    session.merge(row)


_DIRECTORIES = sa.text("""
    select slug,
           notice_round.directory_id is null
           or ledger_head.sequence <> notice_round.sequence
           or exists (select 1 from audit_state where audit_state.directory_id = directory.id and next_at <= :now)
           or directory.id in (
               select client.directory_id from audit_stale join client on client.id = audit_stale.client_id)
           or directory.id in (select directory_id from failing_duty)
    from directory
    left join ledger_head on ledger_head.directory_id = directory.id
    left join notice_round on notice_round.directory_id = directory.id
    order by told_at nulls first, slug
""").columns(slug=sa.Text, news=sa.Boolean)


def directories(session: Session, now: datetime) -> list[tuple[str, bool]]:
    """Return each directory, and whether something is new in it: changed, come due, or failed; the one that was told of
    longest ago first.
    """
    return [(slug, news) for slug, news in session.execute(_DIRECTORIES, {"now": now})]
