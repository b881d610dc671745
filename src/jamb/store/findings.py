"""Findings with their history, and which clients are to be looked at again.

Triggers note every client that something changed for (migration 0015): whoever changes a record need not think of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, ForeignKey, Identity, Index, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.audit import Finding
from jamb.store.clients import ClientRow
from jamb.store.columns import among, document, moment


class FindingRow(SQLModel, table=True):
    """One thing that is wrong, or was. `gone_at`: since when it is not; `returned`: how often it came back.

    `waived_until`: until then it is known and borne; `answer`: what its assignee said of it.
    """

    __tablename__ = "finding"
    __table_args__ = (UniqueConstraint("client_id", "rule", "subject", name="finding_identity"),)

    id: UUID = Field(primary_key=True)
    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id", ondelete="CASCADE"), nullable=False))
    rule: str = Field(sa_type=Text)
    subject: str = Field(sa_type=Text)
    severity: int
    title: str = Field(sa_type=Text)
    evidence: dict[str, str] = document()
    mend: str = Field(sa_type=Text)
    act: str = Field(sa_type=Text)
    target: str = Field(sa_type=Text)
    first_seen_at: datetime = moment()
    gone_at: datetime | None = moment(nullable=True)
    returned: int = 0
    waived_until: datetime | None = moment(nullable=True)
    waived_by: str = Field(default="", sa_type=Text)
    waived_reason: str = Field(default="", sa_type=Text)
    assigned_to: UUID | None = Field(default=None, foreign_key="person.id")
    answer: str = Field(default="", sa_type=Text)

    def waived(self, now: datetime) -> bool:
        return self.waived_until is not None and now < self.waived_until


class AuditStateRow(SQLModel, table=True):
    """When a client was looked at, and when time alone could change what is found."""

    __tablename__ = "audit_state"
    __table_args__ = (Index("audit_state_due", "directory_id", "next_at"),)

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id", ondelete="CASCADE"), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    looked_at: datetime = moment()
    next_at: datetime | None = moment(nullable=True)


class AuditStaleRow(SQLModel, table=True):
    """A note that something changed for a client; there may be several."""

    __tablename__ = "audit_stale"
    __table_args__ = (Index("audit_stale_client", "client_id"),)

    id: int | None = Field(default=None, sa_column=Column(BigInteger, Identity(), primary_key=True))
    client_id: str = Field(sa_type=Text)


def take_changed(session: Session, directory_id: UUID, most: int) -> list[str]:
    """Take clients that changed, for this transaction; notes that another took are passed over."""
    noted = (
        sa.select(col(AuditStaleRow.id))
        .join(ClientRow, col(ClientRow.id) == col(AuditStaleRow.client_id))
        .where(col(ClientRow.directory_id) == directory_id)
        .order_by(col(AuditStaleRow.client_id))
        .limit(most)
        .with_for_update(skip_locked=True, of=AuditStaleRow)
    )
    # Not as a subquery of the deletion: a limit there may be evaluated again.
    ids = list(session.execute(noted).scalars())
    taken = session.execute(
        sa.delete(AuditStaleRow)
        .where(col(AuditStaleRow.id) == sa.any_(sa.bindparam(None, ids, sa.ARRAY(BigInteger))))
        .returning(col(AuditStaleRow.client_id))
    ).scalars()
    return sorted(set(taken))


def due(
    session: Session, directory_id: UUID, now: datetime, most: int, among_these: Iterable[str] | None = None
) -> list[str]:
    """Return clients that time has changed perhaps; none is locked yet."""
    wanted = sa.select(col(AuditStateRow.client_id)).where(
        col(AuditStateRow.directory_id) == directory_id, col(AuditStateRow.next_at) <= now
    )
    if among_these is not None:
        wanted = wanted.where(among(AuditStateRow.client_id, among_these))
    return sorted(session.execute(wanted.limit(most)).scalars())


def lock_states(session: Session, directory_id: UUID, client_ids: Sequence[str], now: datetime) -> None:
    """Lock the states of clients, in the order given, which is one for everybody: of two who look, one waits."""
    made = insert(AuditStateRow).values(
        [{"client_id": one, "directory_id": directory_id, "looked_at": now, "next_at": None} for one in client_ids]
    )
    session.execute(made.on_conflict_do_nothing())
    mine = sa.select(col(AuditStateRow.client_id)).where(among(AuditStateRow.client_id, client_ids))
    session.execute(mine.order_by(col(AuditStateRow.client_id)).with_for_update())


def keep_states(session: Session, moments: Iterable[tuple[str, datetime | None]], now: datetime) -> None:
    """Keep when each client comes due again."""
    rows = [{"id": client_id, "next": next_at, "now": now} for client_id, next_at in moments]
    if rows:
        session.connection().execute(
            sa.update(AuditStateRow)
            .where(col(AuditStateRow.client_id) == sa.bindparam("id"))
            .values(next_at=sa.bindparam("next"), looked_at=sa.bindparam("now")),
            rows,
        )


def keep_findings(session: Session, client_ids: Sequence[str], found: Iterable[Finding], now: datetime) -> None:
    """Make what is kept of some clients what was found: new ones begin, old ones go, gone ones return."""
    wanted = {(one.client_id, one.rule, one.subject): one for one in found}
    for row in session.exec(select(FindingRow).where(among(FindingRow.client_id, client_ids))):
        one = wanted.pop((row.client_id, row.rule, row.subject), None)
        if one is None:
            if row.gone_at is None:
                row.gone_at = now
                session.add(row)
            continue
        if row.gone_at is not None:
            row.gone_at, row.returned = None, row.returned + 1
        for name, value in _content(one).items():
            if getattr(row, name) != value:
                setattr(row, name, value)
        session.add(row)
    rows = [
        {
            "id": uuid4(), "client_id": one.client_id, "rule": one.rule, "subject": one.subject, "first_seen_at": now,
            "returned": 0, "waived_by": "", "waived_reason": "", "answer": "", **_content(one),
        }
        for one in wanted.values()
    ]  # fmt: skip
    session.flush()
    if rows:
        session.connection().execute(sa.insert(FindingRow), rows)


def _content(one: Finding) -> dict[str, Any]:
    return {
        "severity": int(one.severity), "title": one.title, "evidence": dict(one.evidence), "mend": one.mend,
        "act": one.act.value, "target": one.target,
    }  # fmt: skip


def waiting(session: Session, directory_id: UUID, now: datetime) -> int:
    """Return how many clients are still to be looked at."""
    noted = sa.select(col(AuditStaleRow.client_id)).join(ClientRow, col(ClientRow.id) == col(AuditStaleRow.client_id))
    due = sa.select(col(AuditStateRow.client_id)).where(
        col(AuditStateRow.directory_id) == directory_id, col(AuditStateRow.next_at) <= now
    )
    both = noted.where(col(ClientRow.directory_id) == directory_id).union(due).subquery()
    return int(session.execute(sa.select(sa.func.count()).select_from(both)).scalar_one())


def findings_of(
    session: Session, directory_id: UUID, *, client_ids: Iterable[str] | None = None, gone_since: datetime | None = None
) -> list[tuple[FindingRow, str]]:
    """Return open findings with the names of their clients; with `gone_since` those that went since, too."""
    wanted = (
        select(FindingRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == FindingRow.client_id)
        .where(ClientRow.directory_id == directory_id)
    )
    if client_ids is not None:
        wanted = wanted.where(among(FindingRow.client_id, client_ids))
    standing = col(FindingRow.gone_at).is_(None)
    wanted = wanted.where(standing if gone_since is None else standing | (col(FindingRow.gone_at) >= gone_since))
    return [(row, name) for row, name in session.exec(wanted)]


def waived_of(session: Session, client_ids: Iterable[str], now: datetime) -> dict[str, set[tuple[str, str]]]:
    """Return which findings of clients are borne knowingly, as rule and subject, by client."""
    found: dict[str, set[tuple[str, str]]] = {}
    rows = session.execute(
        sa.select(col(FindingRow.client_id), col(FindingRow.rule), col(FindingRow.subject)).where(
            among(FindingRow.client_id, client_ids), col(FindingRow.waived_until) > now
        )
    )
    for client_id, rule, subject in rows:
        found.setdefault(client_id, set()).add((rule, subject))
    return found


def finding_by_id(session: Session, directory_id: UUID, finding_id: UUID) -> tuple[FindingRow, ClientRow] | None:
    """Return a finding and its client, locked."""
    row = session.exec(
        select(FindingRow, ClientRow)
        .join(ClientRow, col(ClientRow.id) == FindingRow.client_id)
        .where(FindingRow.id == finding_id, ClientRow.directory_id == directory_id)
        .with_for_update(of=FindingRow)
    ).first()
    return (row[0], row[1]) if row is not None else None
