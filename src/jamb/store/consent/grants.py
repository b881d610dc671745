"""The consents of a whole directory, a page at a time: those granted last first."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session, col, select

from jamb.store.base.columns import has
from jamb.store.clients.clients import ClientRow, GrantRow
from jamb.store.directory.people import PersonRow
from jamb.store.resources.resources import ResourceRow

# Beyond so many it is told that there are more.
MOST_COUNTED = 10_000


class FoundGrant(NamedTuple):
    row: GrantRow
    client: str
    resource: str
    person: str


@dataclass(frozen=True, slots=True)
class Wanted:
    """Which consents are looked for.

    Attributes:
        query: in the client's name, the permission or the name of the person that it covers.
        resource: short name of the resource.
        bounded: only those that count for some objects alone, or only those that count for all.
        expires_before: only those that expire before this moment.
    """

    query: str = ""
    resource: str = ""
    permission: str = ""
    kind: str = ""
    bounded: bool | None = None
    by_person: bool | None = None
    expires_before: datetime | None = None

    def conditions(self) -> Iterator[Any]:
        if self.query:
            names = (has(column, self.query) for column in (ClientRow.name, GrantRow.permission, PersonRow.name))
            yield sa.or_(*names)
        if self.resource:
            yield col(ResourceRow.name) == self.resource
        if self.permission:
            yield col(GrantRow.permission) == self.permission
        if self.kind:
            yield col(GrantRow.kind) == self.kind
        if self.bounded is not None:
            yield col(GrantRow.reach).is_not(None) if self.bounded else col(GrantRow.reach).is_(None)
        if self.by_person is not None:
            yield col(GrantRow.by_person).is_(self.by_person)
        if self.expires_before is not None:
            yield col(GrantRow.expires_at) < self.expires_before


def page(
    session: Session,
    directory_id: UUID,
    wanted: Wanted,
    now: datetime,
    *,
    after: tuple[datetime, UUID] | None,
    limit: int,
) -> tuple[list[FoundGrant], int | None]:
    """Return a page of the consents in force of clients that are not removed, and how many are found in all.

    Args:
        after: moment and id of the last one of the page before.

    Returns:
        None for a number beyond `MOST_COUNTED`.
    """
    found = (
        select(GrantRow, col(ClientRow.name), col(ResourceRow.name), sa.func.coalesce(col(PersonRow.name), ""))
        .join(ClientRow, col(ClientRow.id) == col(GrantRow.client_id))
        .join(ResourceRow, col(ResourceRow.id) == col(GrantRow.resource_id))
        .outerjoin(PersonRow, col(PersonRow.id) == col(GrantRow.person_id))
        .where(
            col(ClientRow.directory_id) == directory_id,
            ~col(ClientRow.builtin),
            col(ClientRow.state) != "removed",
            col(GrantRow.granted_at) <= now,
            sa.or_(col(GrantRow.expires_at).is_(None), col(GrantRow.expires_at) > now),
            *wanted.conditions(),
        )
    )
    counted = found.with_only_columns(sa.literal(1)).limit(MOST_COUNTED + 1).subquery()
    total: int = session.execute(sa.select(sa.func.count()).select_from(counted)).scalar_one()
    if after is not None:
        place = sa.tuple_(sa.literal(after[0]), sa.literal(after[1]))
        found = found.where(sa.tuple_(col(GrantRow.granted_at), col(GrantRow.id)) < place)
    rows = session.execute(found.order_by(col(GrantRow.granted_at).desc(), col(GrantRow.id).desc()).limit(limit))
    return [FoundGrant(*row) for row in rows], total if total <= MOST_COUNTED else None
