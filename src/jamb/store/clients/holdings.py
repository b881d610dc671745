"""Which clients were consented to something at a resource that is in force: counted, and a page at a time by name."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql import JSONB
from sqlmodel import Session, col

from jamb.store.base.columns import among
from jamb.store.clients.clients import ClientRow, GrantRow, stands
from jamb.store.directory.people import PersonRow

# As the names sort everywhere, whatever the database was made with.
_NAME, _ID = col(ClientRow.name).collate("C"), col(ClientRow.id).collate("C")
Position = tuple[str, str]


@dataclass(frozen=True, slots=True)
class Holding:
    """A consent in force as "who can do this" shows it."""

    client_id: str
    client_name: str
    live: bool
    kind: str
    permission: str
    reach: dict[str, list[str]] | None
    person: str | None
    expires_at: datetime | None


@dataclass(frozen=True, slots=True)
class Holdings:
    """Consents in force to any of some permissions of a resource.

    Attributes:
        within: the reaches of those that are meant, as they are kept; None: all are.
    """

    resource_id: UUID
    permissions: tuple[str, ...]
    now: datetime
    within: Sequence[dict[str, list[str]] | None] | None = None

    def reaches(self, session: Session) -> list[dict[str, list[str]] | None]:
        """Return each reach that one of them has, once."""
        return list(session.scalars(sa.select(col(GrantRow.reach)).where(*self._conditions).distinct()))

    def count(self, session: Session, after: Position | None) -> tuple[int, int]:
        """Return how many there are, and how many of clients behind a position."""
        in_all, following = session.execute(
            sa.select(sa.func.count(), sa.func.count().filter(*_behind(after)))
            .select_from(GrantRow)
            .join(ClientRow, col(ClientRow.id) == col(GrantRow.client_id))
            .where(*self._conditions)
        ).one()
        return int(in_all), int(following)

    def page(self, session: Session, after: Position | None, limit: int) -> list[Holding]:
        """Return the first so many behind a position, by client; all of the last client with them."""
        rows = session.execute(
            sa.select(
                col(ClientRow.id),
                col(ClientRow.name),
                col(ClientRow.state),
                col(GrantRow.kind),
                col(GrantRow.permission),
                col(GrantRow.reach),
                col(PersonRow.name),
                col(GrantRow.expires_at),
            )
            .join(ClientRow, col(ClientRow.id) == col(GrantRow.client_id))
            .outerjoin(PersonRow, col(PersonRow.id) == col(GrantRow.person_id))
            .where(*self._conditions, *_behind(after))
            .order_by(_NAME, _ID)
            .fetch(limit, with_ties=True)
        )
        return [
            Holding(key, name, state == "live", kind, permission, reach, person, expires_at)
            for key, name, state, kind, permission, reach, person, expires_at in rows
        ]

    @property
    def _conditions(self) -> Iterable[sa.ColumnElement[bool]]:
        yield col(GrantRow.resource_id) == self.resource_id
        yield among(GrantRow.permission, self.permissions)
        yield col(GrantRow.granted_at) <= self.now
        yield stands(self.now)
        if self.within is not None:
            kept = [reach for reach in self.within if reach is not None]
            bounded: Any = col(GrantRow.reach) == sa.any_(sa.bindparam(None, kept, sa.ARRAY(JSONB)))
            yield sa.or_(bounded, col(GrantRow.reach).is_(None)) if len(kept) < len(self.within) else bounded


def _behind(after: Position | None) -> tuple[sa.ColumnElement[bool], ...]:
    return () if after is None else (sa.tuple_(_NAME, _ID) > sa.tuple_(*map(sa.literal, after)),)
