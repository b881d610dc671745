"""The ledger's tables: entries and, per directory, the head that serialises writers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlalchemy import BigInteger, Column, ForeignKey, Index, Text, text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.ledger import Entry
from jamb.store.base.columns import blob, document, moment
from jamb.store.base.driver import insert_many


class LedgerEntryRow(SQLModel, table=True):
    __tablename__ = "ledger_entry"
    __table_args__ = (Index("ledger_entry_by_client", "directory_id", text("(subject ->> 'client')"), "sequence"),)

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), primary_key=True))
    sequence: int = Field(sa_column=Column(BigInteger, primary_key=True, autoincrement=False))
    at: datetime = moment()
    actor: dict[str, str] = document()
    action: str = Field(sa_type=Text)
    subject: dict[str, str] = document()
    before: dict[str, Any] | None = document(nullable=True)
    after: dict[str, Any] | None = document(nullable=True)
    reason: str = Field(default="", sa_type=Text)
    hash: bytes = blob()

    def entry(self) -> Entry:
        return Entry(
            self.sequence, self.at, self.actor, self.action, self.subject, self.before, self.after, self.reason
        )


class LedgerHeadRow(SQLModel, table=True):
    __tablename__ = "ledger_head"

    directory_id: UUID = Field(sa_column=Column(ForeignKey("directory.id"), primary_key=True))
    sequence: int = Field(sa_column=Column(BigInteger, nullable=False))
    hash: bytes = blob()
    seal: bytes = blob()


def head(session: Session, directory_id: UUID, *, lock: bool = False) -> LedgerHeadRow | None:
    statement = select(LedgerHeadRow).where(LedgerHeadRow.directory_id == directory_id)
    return session.exec(statement.with_for_update() if lock else statement).first()


def append(session: Session, rows: Sequence[Mapping[str, Any]]) -> None:
    """Write entries, by column. Nobody reads them in this session, so none becomes a table object."""
    insert_many(session, LedgerEntryRow, rows)


def page(
    session: Session, directory_id: UUID, *, client_id: str | None, before: int | None, limit: int
) -> list[LedgerEntryRow]:
    """Newest first, from below `before`."""
    statement = select(LedgerEntryRow).where(LedgerEntryRow.directory_id == directory_id)
    if client_id is not None:
        statement = statement.where(col(LedgerEntryRow.subject)["client"].astext == client_id)
    if before is not None:
        statement = statement.where(col(LedgerEntryRow.sequence) < before)
    return list(session.exec(statement.order_by(col(LedgerEntryRow.sequence).desc()).limit(limit)))


def last_entry_at(session: Session, directory_id: UUID) -> datetime | None:
    """Return the moment of the newest entry."""
    statement = select(LedgerEntryRow.at).where(LedgerEntryRow.directory_id == directory_id)
    return session.exec(statement.order_by(col(LedgerEntryRow.sequence).desc()).limit(1)).first()


def walk(session: Session, directory_id: UUID) -> Iterator[tuple[Entry, bytes]]:
    """Yield the whole chain in order, a thousand rows at a time."""
    statement = (
        select(LedgerEntryRow)
        .where(LedgerEntryRow.directory_id == directory_id)
        .order_by(col(LedgerEntryRow.sequence))
        .execution_options(yield_per=1000)
    )
    for row in session.exec(statement):
        yield row.entry(), row.hash
