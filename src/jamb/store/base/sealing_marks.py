"""The mark that a sealing key leaves beside the records it seals: so that another key is known before it does harm."""

from __future__ import annotations

from datetime import datetime

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, select

from jamb.store.base.columns import blob, moment
from jamb.store.directory.directories import DirectoryRow, SigningKeyRow

_ONLY = 1


class SealingMarkRow(SQLModel, table=True):
    """One row: what is derived from the sealing key, and tells nothing of it."""

    __tablename__ = "sealing_mark"

    id: int = Field(primary_key=True)
    mark: bytes = blob()
    made_at: datetime = moment()


def kept_mark(session: Session) -> bytes | None:
    return session.exec(select(SealingMarkRow.mark).where(SealingMarkRow.id == _ONLY)).first()


def keep_mark(session: Session, mark: bytes, now: datetime) -> bytes:
    """Keep the mark unless there is one; return the one that is kept. Of several at once the first stays."""
    row = {"id": _ONLY, "mark": mark, "made_at": now}
    session.execute(insert(SealingMarkRow).values(row).on_conflict_do_nothing())
    kept = kept_mark(session)
    assert kept is not None
    return kept


def any_directory(session: Session) -> bool:
    return session.exec(select(DirectoryRow.id).limit(1)).first() is not None


def any_sealed(session: Session) -> SigningKeyRow | None:
    """Return some signing key, for trying whether a sealing key opens it."""
    return session.exec(select(SigningKeyRow).limit(1)).first()


def migrated(session: Session) -> bool:
    """Tell whether the schema has the mark: it was migrated, by a version that knows it."""
    return bool(session.execute(sa.text("select to_regclass('sealing_mark') is not null")).scalar_one())
