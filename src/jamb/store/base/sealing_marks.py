"""The sealing keys that open this database: the mark of each, and the root as it opens it.

There is one, and two while another takes its place. By the marks a key that is none of them is known before it does
harm.
"""

from __future__ import annotations

from datetime import datetime

import sqlalchemy as sa
from sqlalchemy import LargeBinary, UniqueConstraint
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import blob, moment
from jamb.store.directory.directories import DirectoryRow, SigningKeyRow

_FIRST = 1


class SealingMarkRow(SQLModel, table=True):
    """`mark`: derived from the sealing key, and tells nothing of it; `root`: None of a key that is its own root."""

    __tablename__ = "sealing_mark"
    __table_args__ = (UniqueConstraint("mark", name="sealing_mark_once"),)

    id: int | None = Field(default=None, primary_key=True)
    mark: bytes = blob()
    root: bytes | None = Field(default=None, sa_type=LargeBinary)
    made_at: datetime = moment()


def kept_marks(session: Session) -> dict[bytes, bytes | None]:
    """Return what each key that opens this database opens: the root by the key's mark."""
    return dict(session.exec(select(SealingMarkRow.mark, SealingMarkRow.root)).all())


def keep_first(session: Session, mark: bytes, root: bytes | None, now: datetime) -> None:
    """Keep the first mark, unless there is one. Of several machines at once the first stays."""
    row = {"id": _FIRST, "mark": mark, "root": root, "made_at": now}
    session.execute(insert(SealingMarkRow).values(row).on_conflict_do_nothing())


def keep_another(session: Session, mark: bytes, root: bytes, now: datetime) -> None:
    session.add(SealingMarkRow(mark=mark, root=root, made_at=now))


def forget_others(session: Session, mark: bytes) -> int:
    """Let this key alone open the database; return how many others could."""
    statement = sa.delete(SealingMarkRow).where(col(SealingMarkRow.mark) != mark).returning(col(SealingMarkRow.id))
    return len(session.execute(statement).all())


def any_directory(session: Session) -> bool:
    return session.exec(select(DirectoryRow.id).limit(1)).first() is not None


def any_sealed(session: Session) -> SigningKeyRow | None:
    """Return some signing key, for trying whether a sealing key opens it."""
    return session.exec(select(SigningKeyRow).limit(1)).first()


def migrated(session: Session) -> bool:
    """Tell whether the schema has the mark: it was migrated, by a version that knows it."""
    return bool(session.execute(sa.text("select to_regclass('sealing_mark') is not null")).scalar_one())
