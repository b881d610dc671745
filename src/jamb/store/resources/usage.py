"""What was used, as guards report it, and how token requests ended."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass
from datetime import UTC, date, datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, Date, ForeignKey, Identity, Index, Integer, Text
from sqlalchemy.dialects.postgresql import aggregate_order_by, insert
from sqlmodel import Field, Session, SQLModel, col, func, select

from jamb.core.audit.picture import DeadTries, NetworkPicture, Told
from jamb.core.clients.attempts import DEAD, TOLD, Outcome
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind
from jamb.store.base.columns import MOMENT, among, blob, moment, one_of, parameter
from jamb.store.base.reading import Reading, Rows


class UsageRow(SQLModel, table=True):
    """Calls of one operation by one client, kind and day."""

    __tablename__ = "usage"
    __table_args__ = (Index("usage_by_day", "client_id", "day", "last_at"),)

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    operation: str = Field(primary_key=True, sa_type=Text)
    kind: str = Field(primary_key=True, sa_type=Text)
    day: date = Field(sa_column=Column(Date, primary_key=True))
    calls: int = Field(sa_column=Column(BigInteger, nullable=False))
    last_at: datetime = moment()


def _day_of(moment_of: str) -> Callable[[Any], date]:
    """Return the default of the column by which a table is parted: the day (UTC) of another column of the row."""

    def day(context: Any) -> date:
        at: datetime = context.get_current_parameters()[moment_of]
        return at.astimezone(UTC).date()

    return day


_BY_DAY = {"postgresql_partition_by": "RANGE (day)"}


class UsageBatchRow(SQLModel, table=True):
    """Batches already counted: a guard that never heard our answer may send one again. Parted by day."""

    __tablename__ = "usage_batch"
    __table_args__ = (_BY_DAY,)

    id: UUID = Field(primary_key=True)
    resource_id: UUID = Field(foreign_key="resource.id")
    received_at: datetime = moment()
    day: date | None = Field(default=None, sa_column=Column(Date, primary_key=True, default=_day_of("received_at")))


class RefusalRow(SQLModel, table=True):
    """Calls of one operation that a guard refused, by client, kind, reason, object and day. Parted by day."""

    __tablename__ = "refusal"
    __table_args__ = (Index("refusal_by_client", "client_id", "last_at"), _BY_DAY)

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    resource_id: UUID = Field(sa_column=Column(ForeignKey("resource.id"), primary_key=True))
    operation: str = Field(primary_key=True, sa_type=Text)
    kind: str = Field(primary_key=True, sa_type=Text)
    reason: str = Field(primary_key=True, sa_type=Text)
    object: str = Field(default="", primary_key=True, sa_type=Text)
    day: date = Field(sa_column=Column(Date, primary_key=True))
    calls: int = Field(sa_column=Column(BigInteger, nullable=False))
    last_at: datetime = moment()


class AttemptRow(SQLModel, table=True):
    """One token request and how it ended; of equal refusals within a minute how many (`times`), and the last (`at`).

    `digest`: of what makes refusals equal, and the minute; none for a token that was issued. Parted by day.
    """

    __tablename__ = "attempt"
    __table_args__ = (
        Index("attempt_by_client", "client_id", "id"),
        Index("attempt_by_time", "directory_id", "at"),
        Index("attempt_of_client_by_time", "client_id", "at"),
        Index("attempt_counted", "digest", "day", unique=True, postgresql_where=sa.text("digest IS NOT NULL")),
        _BY_DAY,
    )

    id: int | None = Field(default=None, sa_column=Column(BigInteger, Identity(), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    # Not a foreign key: an unknown client id is worth recording too.
    client_id: str = Field(sa_type=Text)
    at: datetime = moment()
    outcome: str = Field(sa_type=Text)
    hint: str = Field(default="", sa_type=Text)
    resource: str = Field(default="", sa_type=Text)
    detail: str = Field(default="", sa_type=Text)
    address: str = Field(default="", sa_type=Text)
    user_agent: str = Field(default="", sa_type=Text)
    times: int = Field(default=1, sa_column=Column(Integer, nullable=False, server_default="1"))
    digest: bytes | None = blob(nullable=True)
    day: date | None = Field(default=None, sa_column=Column(Date, primary_key=True, default=_day_of("at")))


class NetworkRow(SQLModel, table=True):
    """A network from which a client got tokens, since when, and (to the day) until when."""

    __tablename__ = "client_network"

    # Not a foreign key: whoever records a token would wait for whoever changes the client.
    client_id: str = Field(primary_key=True, sa_type=Text)
    network: str = Field(primary_key=True, sa_type=Text)
    first_at: datetime = moment()
    last_at: datetime = moment()


def dead_tries_of(client_ids: Iterable[str], since: datetime) -> Reading[dict[str, list[DeadTries]]]:
    """The tries since a moment with a credential that had ended, by client, one entry a credential."""
    return Reading(_dead_tries(), _asked(client_ids, since), _as_dead_tries)


def told_of(client_ids: Iterable[str], since: datetime) -> Reading[dict[str, list[Told]]]:
    """The requests since a moment that the audit is told of, by client, one entry for each outcome."""
    return Reading(_told(), _asked(client_ids, since), _as_told)


def _asked(client_ids: Iterable[str], since: datetime) -> dict[str, Any]:
    return {"clients": list(client_ids), "tried_since": since, "tried_day": since.astimezone(UTC).date()}


def _as_dead_tries(rows: Rows) -> dict[str, list[DeadTries]]:
    found: dict[str, list[DeadTries]] = {}
    for client_id, hint, times, last_at, address in rows:
        found.setdefault(client_id, []).append(DeadTries(hint, int(times), last_at, address))
    return found


def _as_told(rows: Rows) -> dict[str, list[Told]]:
    found: dict[str, list[Told]] = {}
    for client_id, outcome, times, last_at, address in rows:
        found.setdefault(client_id, []).append(Told(Outcome(outcome), int(times), last_at, address))
    return found


@cache
def _dead_tries() -> sa.Select[Any]:
    return _gathered_by(col(AttemptRow.hint), DEAD).where(col(AttemptRow.hint) != "")


@cache
def _told() -> sa.Select[Any]:
    return _gathered_by(col(AttemptRow.outcome), TOLD)


def _gathered_by(by: Any, outcomes: Iterable[Outcome]) -> sa.Select[Any]:
    """Return token requests that ended so, by client and another column: how many, the last, and whence it came."""
    return (
        sa.select(
            col(AttemptRow.client_id),
            by,
            sa.func.sum(col(AttemptRow.times)),
            sa.func.max(col(AttemptRow.at)),
            sa.func.array_agg(aggregate_order_by(col(AttemptRow.address), col(AttemptRow.at).desc()))[1],
        )
        .where(
            one_of(AttemptRow.client_id, "clients"),
            col(AttemptRow.at) >= parameter("tried_since", MOMENT),
            col(AttemptRow.day) >= parameter("tried_day", Date),
            among(AttemptRow.outcome, [outcome.value for outcome in outcomes]),
        )
        .group_by(col(AttemptRow.client_id), by)
        .order_by(by)
    )


def uses_of(client_ids: Iterable[str], since: date) -> Reading[Mapping[tuple[str, UUID], list[Use]]]:
    """Uses by (client, resource): day by day from `since`, and what was before it as one row an operation."""
    return Reading(_uses(), {"clients": list(client_ids), "daily_since": since}, _as_uses)


def _as_uses(rows: Rows) -> Mapping[tuple[str, UUID], list[Use]]:
    found: dict[tuple[str, UUID], list[Use]] = {}
    for client_id, resource_id, operation, kind, day, calls, last_at in rows:
        use = Use(operation, AccessKind(kind), day, calls, last_at)
        found.setdefault((client_id, resource_id), []).append(use)
    return found


def _what() -> tuple[Any, ...]:
    return col(UsageRow.client_id), col(UsageRow.resource_id), col(UsageRow.operation), col(UsageRow.kind)


@cache
def _uses() -> sa.CompoundSelect[Any]:
    mine, since = one_of(UsageRow.client_id, "clients"), parameter("daily_since", Date)
    what = _what()
    recent = sa.select(*what, col(UsageRow.day), col(UsageRow.calls), col(UsageRow.last_at)).where(
        mine, col(UsageRow.day) >= since
    )
    earlier = (
        sa.select(
            *what,
            sa.func.max(col(UsageRow.day)),
            sa.cast(sa.func.sum(col(UsageRow.calls)), BigInteger),
            sa.func.max(col(UsageRow.last_at)),
        )
        .where(mine, col(UsageRow.day) < since)
        .group_by(*what)
    )
    return recent.union_all(earlier)


def latest_of(client_ids: Iterable[str]) -> Reading[Mapping[tuple[str, UUID], list[Use]]]:
    """What was used ever, as one row an operation under its last day, by (client, resource)."""
    return Reading(_latest(), {"clients": list(client_ids)}, _as_latest)


def _as_latest(rows: Rows) -> Mapping[tuple[str, UUID], list[Use]]:
    found: dict[tuple[str, UUID], list[Use]] = {}
    for client_id, resource_id, operation, kind, last_at in rows:
        use = Use(operation, AccessKind(kind), last_at.date(), 0, last_at)
        found.setdefault((client_id, resource_id), []).append(use)
    return found


@cache
def _latest() -> sa.Select[Any]:
    what = _what()
    latest = sa.select(*what, sa.func.max(col(UsageRow.last_at)))
    return latest.where(one_of(UsageRow.client_id, "clients")).group_by(*what)


def days_of(client_ids: Iterable[str], since: date) -> Reading[dict[str, dict[date, int]]]:
    """The calls of clients since a day, of whatever operation, by client and day."""
    return Reading(_days(), {"clients": list(client_ids), "days_since": since}, _by_day)


def _by_day(rows: Rows) -> dict[str, dict[date, int]]:
    found: dict[str, dict[date, int]] = {}
    for client_id, day, calls in rows:
        found.setdefault(client_id, {})[day] = int(calls)
    return found


@cache
def _days() -> sa.Select[str, date, int]:
    return (
        sa.select(col(UsageRow.client_id), col(UsageRow.day), sa.func.sum(col(UsageRow.calls)))
        .where(one_of(UsageRow.client_id, "clients"), col(UsageRow.day) >= parameter("days_since", Date))
        .group_by(col(UsageRow.client_id), col(UsageRow.day))
    )


def networks_of(client_ids: Iterable[str]) -> Reading[dict[str, tuple[NetworkPicture, ...]]]:
    """The networks from which clients got tokens."""
    return Reading(_networks(), {"clients": list(client_ids)}, _as_networks)


def _as_networks(rows: Rows) -> dict[str, tuple[NetworkPicture, ...]]:
    found: dict[str, tuple[NetworkPicture, ...]] = {}
    for client_id, network, first_at in rows:
        found[client_id] = (*found.get(client_id, ()), NetworkPicture(network, first_at))
    return found


@cache
def _networks() -> sa.Select[str, str, datetime]:
    return (
        sa.select(col(NetworkRow.client_id), col(NetworkRow.network), col(NetworkRow.first_at))
        .where(one_of(NetworkRow.client_id, "clients"))
        .order_by(col(NetworkRow.client_id), col(NetworkRow.first_at), col(NetworkRow.network))
    )


def add_uses(session: Session, resource_id: UUID, uses: Iterable[tuple[str, Use]]) -> None:
    """Add calls to what is counted already, in an order that two processes share, so that they cannot deadlock."""
    rows = [
        {
            "client_id": client_id,
            "resource_id": resource_id,
            "operation": use.operation,
            "kind": use.kind.value,
            "day": use.day,
            "calls": use.calls,
            "last_at": use.last_at,
        }
        for client_id, use in sorted(uses, key=lambda pair: (pair[0], pair[1].operation, pair[1].kind, pair[1].day))
    ]
    if not rows:
        return
    statement = insert(UsageRow)
    added = statement.on_conflict_do_update(
        index_elements=["client_id", "resource_id", "operation", "kind", "day"],
        set_={
            "calls": col(UsageRow.calls) + statement.excluded.calls,
            "last_at": func.greatest(UsageRow.last_at, statement.excluded.last_at),
        },
    )
    session.execute(added, rows)


@dataclass(frozen=True, slots=True)
class Refused:
    """Calls that a guard refused on one day: of which operation, of what kind, why, and to which object."""

    operation: str
    kind: AccessKind
    reason: str
    object: str
    day: date
    calls: int
    last_at: datetime


def add_refusals(session: Session, resource_id: UUID, refusals: Iterable[tuple[str, Refused]]) -> None:
    """Add refused calls to what is counted already, in an order that two processes share."""
    rows = [
        {"client_id": client_id, "resource_id": resource_id, **asdict(one), "kind": one.kind.value}
        for client_id, one in refusals
    ]
    keys = ["client_id", "resource_id", "operation", "kind", "reason", "object", "day"]
    rows.sort(key=lambda row: [str(row[key]) for key in keys])
    if not rows:
        return
    statement = insert(RefusalRow)
    added = statement.on_conflict_do_update(
        index_elements=keys,
        set_={
            "calls": col(RefusalRow.calls) + statement.excluded.calls,
            "last_at": func.greatest(RefusalRow.last_at, statement.excluded.last_at),
        },
    )
    session.execute(added, rows)


def refusals_of(session: Session, client_id: str, limit: int) -> list[RefusalRow]:
    """Latest first."""
    statement = select(RefusalRow).where(RefusalRow.client_id == client_id)
    return list(session.exec(statement.order_by(col(RefusalRow.last_at).desc()).limit(limit)))


def remember_batch(session: Session, batch_id: UUID, resource_id: UUID, now: datetime) -> bool:
    """Return whether this batch is new."""
    # Unique by day alone: who sends one again at midnight, or to two processes, waits for the other here.
    session.execute(sa.select(sa.func.pg_advisory_xact_lock(sa.func.hashtextextended(str(batch_id), 0))))
    if session.execute(sa.select(col(UsageBatchRow.id)).where(col(UsageBatchRow.id) == batch_id)).first() is not None:
        return False
    session.execute(insert(UsageBatchRow).values(id=batch_id, resource_id=resource_id, received_at=now))
    return True


def attempts_of(
    session: Session, directory_id: UUID, client_id: str, *, failed_only: bool, before: int | None, limit: int
) -> list[AttemptRow]:
    """Newest first, from below `before`."""
    statement = select(AttemptRow).where(AttemptRow.client_id == client_id, AttemptRow.directory_id == directory_id)
    if failed_only:
        statement = statement.where(AttemptRow.outcome != "issued")
    if before is not None:
        statement = statement.where(col(AttemptRow.id) < before)
    return list(session.exec(statement.order_by(col(AttemptRow.id).desc()).limit(limit)))


def issued_since(session: Session, client_id: str, resource: str | None, since: datetime) -> int:
    """Return how many tokens a client was issued since a moment, for one resource or for any."""
    statement = select(func.count()).select_from(AttemptRow)
    statement = statement.where(
        AttemptRow.client_id == client_id, AttemptRow.outcome == "issued", AttemptRow.at > since
    )
    if resource is not None:
        statement = statement.where(AttemptRow.resource == resource)
    return session.exec(statement).one()
