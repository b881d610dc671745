"""Findings with their history, and which clients are to be looked at again.

Triggers note every client that something changed for (migration 0015): whoever changes a record need not think of it.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from typing import Any
from uuid import UUID, uuid4

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, ForeignKey, Identity, Index, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import insert
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.audit.findings import Finding
from jamb.core.ladder import LadderCount
from jamb.core.lists import GroupBy, Which
from jamb.store.base.columns import MOMENT, among, document, has, moment, one_of, parameter
from jamb.store.base.reading import Reading, Rows
from jamb.store.clients.clients import ClientOwnerRow, ClientRow
from jamb.store.directory.people import PersonRow
from jamb.store.directory.sums import SumOf, totals


class FindingRow(SQLModel, table=True):
    """One thing that is wrong, or was. `resolved_at`: since when it is not; `returned`: how often it came back.

    `waived_until`: it is waived until then; `note`: what was said to its assignee, `answer`: by them.
    """

    __tablename__ = "finding"
    __table_args__ = (
        UniqueConstraint("client_id", "rule", "subject", name="finding_identity"),
        Index(
            "finding_open",
            "directory_id",
            sa.text("severity DESC"),
            "rule",
            "id",
            postgresql_where=sa.text("resolved_at IS NULL"),
        ),
        Index("finding_resolved", "directory_id", "resolved_at"),
        Index("finding_assigned", "assigned_to", postgresql_where=sa.text("assigned_to IS NOT NULL")),
    )

    id: UUID = Field(primary_key=True)
    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id", ondelete="CASCADE"), nullable=False))
    directory_id: UUID = Field(foreign_key="directory.id")
    rule: str = Field(sa_type=Text)
    subject: str = Field(sa_type=Text)
    severity: int
    title: str = Field(sa_type=Text)
    evidence: dict[str, str] = document()
    remedy: str = Field(sa_type=Text)
    act: str = Field(sa_type=Text)
    target: str = Field(sa_type=Text)
    first_seen_at: datetime = moment()
    resolved_at: datetime | None = moment(nullable=True)
    returned: int = 0
    waived_until: datetime | None = moment(nullable=True)
    waived_by: str = Field(default="", sa_type=Text)
    waived_reason: str = Field(default="", sa_type=Text)
    assigned_to: UUID | None = Field(default=None, foreign_key="person.id")
    assigned_at: datetime | None = moment(nullable=True)
    assigned_by: str = Field(default="", sa_type=Text)
    assigned_by_id: str = Field(default="", sa_type=Text)
    note: str = Field(default="", sa_type=Text)
    answer: str = Field(default="", sa_type=Text)
    answered_at: datetime | None = moment(nullable=True)

    def waived(self, now: datetime) -> bool:
        return self.waived_until is not None and now < self.waived_until


class AuditStateRow(SQLModel, table=True):
    """When a client was looked at, and when time alone could change what is found."""

    __tablename__ = "audit_state"
    __table_args__ = (
        Index("audit_state_due", "directory_id", "next_at"),
        Index("audit_state_waiting", "directory_id", "client_id", postgresql_where=sa.text("waiting > 0")),
    )

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id", ondelete="CASCADE"), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    looked_at: datetime = moment()
    next_at: datetime | None = moment(nullable=True)
    # What it may do as itself, and its ladder, when it was looked at.
    weight: int = 0
    asked: int = 0
    granted: int = 0
    used: int = 0
    waiting: int = 0


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


def wait_for_others(session: Session, directory_id: UUID) -> bool:
    """Wait until whoever took notes has looked at them; return whether notes are left, as when one was stopped."""
    noted = (
        sa.select(col(AuditStaleRow.id))
        .join(ClientRow, col(ClientRow.id) == col(AuditStaleRow.client_id))
        .where(col(ClientRow.directory_id) == directory_id)
        .with_for_update(key_share=True, read=True, of=AuditStaleRow)
    )
    return bool(session.execute(noted).scalars().all())


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
    wanted = sa.func.unnest(sa.bindparam(None, list(client_ids), sa.ARRAY(Text))).column_valued("id")
    zero = [sa.literal(0) for _ in _KEPT]
    made = insert(AuditStateRow).from_select(
        ["client_id", "directory_id", "looked_at", "next_at", *_KEPT],
        sa.select(wanted, sa.literal(directory_id), sa.literal(now), sa.null(), *zero),
    )
    session.execute(made.on_conflict_do_nothing())
    mine = sa.select(col(AuditStateRow.client_id)).where(among(AuditStateRow.client_id, client_ids))
    session.execute(mine.order_by(col(AuditStateRow.client_id)).with_for_update())


_NOTHING = LadderCount(0, 0, 0, 0)
_KEPT = ("weight", "asked", "granted", "used", "waiting")


@dataclass(frozen=True, slots=True)
class LookedAt:
    """What is kept of a client that was looked at, beside its findings."""

    client_id: str
    next_at: datetime | None = None
    weight: int = 0
    ladder: LadderCount = _NOTHING


def keep_states(session: Session, states: Iterable[LookedAt], now: datetime) -> None:
    """Keep when each client comes due again, and what it may do."""
    found = list(states)
    if found:
        # One statement, however many there are: what they add to the sums is one part.
        values = {name: [getattr(state.ladder, name) for state in found] for name in _KEPT[1:]}
        values |= {"clients": [state.client_id for state in found], "weight": [state.weight for state in found]}
        session.execute(_KEEP_STATES, {**values, "next_at": [state.next_at for state in found], "now": now})


_KEEP_STATES = sa.text("""
    update audit_state
       set looked_at = :now, next_at = found.next_at, weight = found.weight,
           asked = found.asked, granted = found.granted, used = found.used, waiting = found.waiting
      from unnest(
        cast(:clients as text[]), cast(:next_at as timestamptz[]), cast(:weight as integer[]),
        cast(:asked as integer[]), cast(:granted as integer[]), cast(:used as integer[]), cast(:waiting as integer[])
      ) as found (client_id, next_at, weight, asked, granted, used, waiting)
     where audit_state.client_id = found.client_id
""")


def keep_findings(
    session: Session, directory_id: UUID, client_ids: Sequence[str], found: Iterable[Finding], now: datetime
) -> None:
    """Make what is kept of some clients what was found: new ones begin, old ones go, gone ones return."""
    wanted = {(one.client_id, one.rule, one.subject): one for one in found}
    for row in session.exec(select(FindingRow).where(among(FindingRow.client_id, client_ids))):
        one = wanted.pop((row.client_id, row.rule, row.subject), None)
        if one is None:
            if row.resolved_at is None:
                row.resolved_at = now
                session.add(row)
            continue
        if row.resolved_at is not None:
            row.resolved_at, row.returned = None, row.returned + 1
        for name, value in _content(one).items():
            if getattr(row, name) != value:
                setattr(row, name, value)
        session.add(row)
    rows = [
        {
            "id": uuid4(),
            "client_id": one.client_id,
            "directory_id": directory_id,
            "rule": one.rule,
            "subject": one.subject,
            "first_seen_at": now,
            "returned": 0,
            "waived_by": "",
            "waived_reason": "",
            "assigned_by": "",
            "assigned_by_id": "",
            "note": "",
            "answer": "",
            **_content(one),
        }
        for one in wanted.values()
    ]
    session.flush()
    if rows:
        session.connection().execute(sa.insert(FindingRow), rows)


def _content(one: Finding) -> dict[str, Any]:
    return {
        "severity": int(one.severity),
        "title": one.title,
        "evidence": dict(one.evidence),
        "remedy": one.remedy,
        "act": one.act.value,
        "target": one.target,
    }


def waiting(session: Session, directory_id: UUID, now: datetime) -> int:
    """Return how many clients are still to be looked at."""
    return int(session.execute(_waiting(), {"directory": directory_id, "now": now}).scalar_one())


@cache
def _waiting() -> sa.Select[int]:
    here = parameter("directory", sa.Uuid)
    noted = sa.select(col(AuditStaleRow.client_id)).join(ClientRow, col(ClientRow.id) == col(AuditStaleRow.client_id))
    due = sa.select(col(AuditStateRow.client_id)).where(
        col(AuditStateRow.directory_id) == here, col(AuditStateRow.next_at) <= parameter("now", MOMENT)
    )
    both = noted.where(col(ClientRow.directory_id) == here).union(due).subquery()
    return sa.select(sa.func.count()).select_from(both)


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
    standing = col(FindingRow.resolved_at).is_(None)
    wanted = wanted.where(standing if gone_since is None else standing | (col(FindingRow.resolved_at) >= gone_since))
    return [(row, name) for row, name in session.exec(wanted)]


RESOLVED_LATELY = timedelta(days=30)


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which findings of a directory. `least`: of this severity or worse; `owner`: of clients that a person owns.

    `ids`: from this id to that, both included.
    """

    which: Which = Which.OPEN
    severity: int | None = None
    least: int | None = None
    rule: str = ""
    client_id: str = ""
    owner: UUID | None = None
    ownerless: bool = False
    assigned_to: UUID | None = None
    query: str = ""
    ids: tuple[UUID, UUID] | None = None

    def conditions(
        self, directory_id: UUID | sa.BindParameter[UUID], now: datetime | sa.BindParameter[datetime]
    ) -> list[sa.ColumnElement[bool]]:
        waived = col(FindingRow.waived_until).is_not(None) & (col(FindingRow.waived_until) > now)
        found: list[sa.ColumnElement[bool]] = [col(FindingRow.directory_id) == directory_id]
        if self.which is Which.RESOLVED:
            found.append(col(FindingRow.resolved_at) >= now - RESOLVED_LATELY)
        else:
            found += [col(FindingRow.resolved_at).is_(None), waived if self.which is Which.WAIVED else ~waived]
        if self.severity is not None:
            found.append(col(FindingRow.severity) == self.severity)
        if self.least is not None:
            found.append(col(FindingRow.severity) >= self.least)
        if self.rule:
            found.append(col(FindingRow.rule) == self.rule)
        if self.client_id:
            found.append(col(FindingRow.client_id) == self.client_id)
        if self.assigned_to is not None:
            found.append(col(FindingRow.assigned_to) == self.assigned_to)
        if self.ids is not None:
            found.append(col(FindingRow.id).between(*self.ids))
        found += self._owned()
        if self.query:
            found.append(has(FindingRow.title, self.query) | has(ClientRow.name, self.query))
        return found

    def _owned(self) -> list[sa.ColumnElement[bool]]:
        owned = sa.select(col(ClientOwnerRow.client_id))
        found: list[sa.ColumnElement[bool]] = []
        if self.owner is not None:
            found.append(col(FindingRow.client_id).in_(owned.where(col(ClientOwnerRow.person_id) == self.owner)))
        if self.ownerless:
            found.append(col(FindingRow.client_id).not_in(owned))
        return found


def page(
    session: Session,
    directory_id: UUID,
    wanted: Wanted,
    now: datetime,
    *,
    after: tuple[int, str, UUID] | None,
    limit: int,
) -> list[tuple[FindingRow, str]]:
    """Return findings after a position, worst first, then by rule; with the names of their clients."""
    statement = (
        select(FindingRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == FindingRow.client_id)
        .where(*wanted.conditions(directory_id, now))
    )
    if after is not None:
        severity, rule, key = after
        same = col(FindingRow.severity) == severity
        later = (col(FindingRow.rule) > rule) | ((col(FindingRow.rule) == rule) & (col(FindingRow.id) > key))
        statement = statement.where((col(FindingRow.severity) < severity) | (same & later))
    order = (col(FindingRow.severity).desc(), col(FindingRow.rule), col(FindingRow.id))
    return [(row, name) for row, name in session.exec(statement.order_by(*order).limit(limit))]


def cared_for_since(session: Session, directory_id: UUID, since: datetime) -> list[tuple[FindingRow, str]]:
    """Return what is open and was given to somebody, or answered by them, since; with the names of the clients."""
    rows = session.exec(
        select(FindingRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == FindingRow.client_id)
        .where(
            FindingRow.directory_id == directory_id,
            col(FindingRow.assigned_to).is_not(None),
            col(FindingRow.resolved_at).is_(None),
            (col(FindingRow.assigned_at) > since) | (col(FindingRow.answered_at) > since),
        )
    )
    return [(row, name) for row, name in rows]


@dataclass(frozen=True, slots=True)
class FindingGroup:
    """`key`: of the rule, client or person; empty: clients that nobody owns."""

    key: str
    title: str
    count: int
    worst: int
    oldest: datetime


def groups(
    session: Session, directory_id: UUID, by: GroupBy, wanted: Wanted, now: datetime, *, skip: int, limit: int
) -> list[FindingGroup]:
    """Return the groups of findings, the worst and largest first. A client of two owners counts for both."""
    statement: sa.Select[Any]
    figures = (sa.func.count(), sa.func.max(col(FindingRow.severity)), sa.func.min(col(FindingRow.first_seen_at)))
    joined = sa.join(FindingRow, ClientRow, col(ClientRow.id) == col(FindingRow.client_id))
    if by is GroupBy.RULE:
        keys: tuple[Any, ...] = (col(FindingRow.rule), col(FindingRow.rule))
    elif by is GroupBy.CLIENT:
        keys = (col(ClientRow.id), col(ClientRow.name))
    else:
        joined = joined.outerjoin(ClientOwnerRow, col(ClientOwnerRow.client_id) == col(FindingRow.client_id))
        joined = joined.outerjoin(PersonRow, col(PersonRow.id) == col(ClientOwnerRow.person_id))
        keys = (sa.func.coalesce(sa.cast(col(PersonRow.id), Text), ""), sa.func.coalesce(col(PersonRow.name), ""))
    statement = sa.select(keys[0].label("key"), keys[1].label("title"), *figures).select_from(joined)
    statement = statement.where(*wanted.conditions(directory_id, now)).group_by(*dict.fromkeys(keys))
    statement = statement.order_by(figures[1].desc(), figures[0].desc(), keys[1], keys[0]).offset(skip).limit(limit)
    return [FindingGroup(*row) for row in session.execute(statement)]


Tally = list[tuple[str, int, Which, int, datetime]]


def tally(directory_id: UUID, now: datetime) -> Reading[Tally]:
    """How many findings there are by rule, severity and standing, with the first day of the oldest."""
    return Reading(_tally(), {"directory": directory_id, "now": now, "lately": now - RESOLVED_LATELY}, _as_tally)


def _as_tally(rows: Rows) -> Tally:
    return [(rule, severity, Which(which), count, oldest) for rule, severity, which, count, oldest in rows]


def ages(directory_id: UUID, now: datetime, days: tuple[int, ...]) -> Reading[list[tuple[int, int, int]]]:
    """What is open as (severity, up to so many days old, how many); the last band has no end (0)."""
    return Reading(_ages(days), {"directory": directory_id, "now": now}, lambda rows: [(*row,) for row in rows])


@cache
def _ages(days: tuple[int, ...]) -> sa.Select[Any]:
    now = parameter("now", MOMENT)
    age = sa.func.extract("epoch", now - col(FindingRow.first_seen_at)) / 86_400
    # The bands are the statement's own: what it is grouped by must not be a parameter.
    band = sa.case(*((age <= most, sa.literal_column(str(most), sa.Integer)) for most in days), else_=0)
    return (
        sa.select(col(FindingRow.severity), band.label("band"), sa.func.count())
        .where(*Wanted().conditions(parameter("directory", sa.Uuid), now))
        .group_by(col(FindingRow.severity), "band")
    )


@cache
def _tally() -> sa.Select[Any]:
    waived = col(FindingRow.waived_until).is_not(None) & (col(FindingRow.waived_until) > parameter("now", MOMENT))
    which = sa.case(
        (col(FindingRow.resolved_at).is_not(None), Which.RESOLVED.value),
        (waived, Which.WAIVED.value),
        else_=Which.OPEN.value,
    )
    lately = col(FindingRow.resolved_at) >= parameter("lately", MOMENT)
    columns: tuple[Any, ...] = (
        col(FindingRow.rule),
        col(FindingRow.severity),
        which.label("which"),
        sa.func.count(),
        sa.func.min(col(FindingRow.first_seen_at)),
    )
    return (
        sa.select(*columns)
        .where(
            col(FindingRow.directory_id) == parameter("directory", sa.Uuid),
            col(FindingRow.resolved_at).is_(None) | lately,
        )
        .group_by(col(FindingRow.rule), col(FindingRow.severity), "which")
    )


def ladder_of_all(directory_id: UUID) -> Reading[LadderCount]:
    """The ladder of a directory's clients as they were looked at last."""
    sums = totals(directory_id, SumOf.ASKED, SumOf.GRANTED, SumOf.USED, SumOf.WAITING)
    return sums.then(lambda found: LadderCount(*map(int, found)))


def clients_waiting(directory_id: UUID, limit: int) -> Reading[tuple[list[str], int]]:
    """Clients of which an ask waited for consent when they were looked at, and how many there are."""
    return Reading(_waiting_clients(), {"directory": directory_id, "most_waiting": limit}, _as_waiting)


def _as_waiting(rows: Rows) -> tuple[list[str], int]:
    found = list(rows)
    return [client_id for client_id, _ in found], found[0][1] if found else 0


@cache
def _waiting_clients() -> sa.Select[str, int]:
    here = col(AuditStateRow.directory_id) == parameter("directory", sa.Uuid)
    wanted = sa.select(col(AuditStateRow.client_id), sa.func.count().over()).where(here, col(AuditStateRow.waiting) > 0)
    return wanted.order_by(col(AuditStateRow.client_id)).limit(parameter("most_waiting", sa.Integer))


def waived_of(client_ids: Iterable[str], now: datetime) -> Reading[dict[str, set[tuple[str, str]]]]:
    """Which findings of clients are waived knowingly, as rule and subject, by client."""
    return Reading(_waived(), {"clients": list(client_ids), "now": now}, _as_waived)


def _as_waived(rows: Rows) -> dict[str, set[tuple[str, str]]]:
    found: dict[str, set[tuple[str, str]]] = {}
    for client_id, rule, subject in rows:
        found.setdefault(client_id, set()).add((rule, subject))
    return found


@cache
def _waived() -> sa.Select[str, str, str]:
    return sa.select(col(FindingRow.client_id), col(FindingRow.rule), col(FindingRow.subject)).where(
        one_of(FindingRow.client_id, "clients"), col(FindingRow.waived_until) > parameter("now", MOMENT)
    )


def finding_by_id(session: Session, directory_id: UUID, finding_id: UUID) -> tuple[FindingRow, ClientRow] | None:
    """Return a finding and its client, locked."""
    row = session.exec(
        select(FindingRow, ClientRow)
        .join(ClientRow, col(ClientRow.id) == FindingRow.client_id)
        .where(FindingRow.id == finding_id, ClientRow.directory_id == directory_id)
        .with_for_update(of=FindingRow)
    ).first()
    return (row[0], row[1]) if row is not None else None


def note_all(session: Session, directory_id: UUID) -> None:
    """Note every client of a directory as one to be looked at."""
    everyone = sa.select(col(ClientRow.id)).where(col(ClientRow.directory_id) == directory_id)
    session.execute(sa.insert(AuditStaleRow).from_select(["client_id"], everyone))


def note_looked_at_after(session: Session, directory_id: UUID, moment: datetime) -> None:
    """Note clients that were looked at after a moment, of a directory, as ones to be looked at."""
    later = sa.select(col(AuditStateRow.client_id)).where(
        col(AuditStateRow.directory_id) == directory_id, col(AuditStateRow.looked_at) > moment
    )
    session.execute(sa.insert(AuditStaleRow).from_select(["client_id"], later))
