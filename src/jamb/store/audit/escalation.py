"""What escalation paths are made of, read for a whole directory in a handful of statements, without table objects."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import ARRAY, Text
from sqlmodel import Session, col

from jamb.core import own_api
from jamb.store.audit.findings import AuditStateRow
from jamb.store.base.columns import MOMENT, parameter
from jamb.store.clients.clients import ClientOwnerRow, ClientRow, GrantRow, stands
from jamb.store.directory.people import PersonRow
from jamb.store.directory.roles import AssignmentRow, GroupInnerRow, GroupPersonRow, GroupRow, RoleRow, in_force
from jamb.store.resources.resources import ResourceRow


def more_clients(session: Session, directory_id: UUID, than: int) -> bool:
    """Tell whether a directory has more clients than so many."""
    further = sa.select(sa.literal(1)).where(col(ClientRow.directory_id) == directory_id).offset(than).limit(1)
    return session.execute(further).first() is not None


def live_clients(session: Session, directory_id: UUID) -> list[tuple[str, str, int]]:
    """Return (id, name, weight of what it may do as itself)."""
    rows = session.execute(
        sa.select(col(ClientRow.id), col(ClientRow.name), col(AuditStateRow.weight))
        .join(AuditStateRow, col(AuditStateRow.client_id) == col(ClientRow.id))
        .where(col(ClientRow.directory_id) == directory_id, col(ClientRow.state) == "live", ~col(ClientRow.builtin))
    )
    return [(key, name, weight) for key, name, weight in rows]


def full_owners(session: Session, directory_id: UUID) -> list[tuple[str, str, UUID]]:
    """Return (client, its name, person) for live clients and live people who answer for them."""
    rows = session.execute(
        sa.select(col(ClientRow.id), col(ClientRow.name), col(ClientOwnerRow.person_id))
        .join(ClientOwnerRow, col(ClientOwnerRow.client_id) == col(ClientRow.id))
        .join(PersonRow, col(PersonRow.id) == col(ClientOwnerRow.person_id))
        .where(
            col(ClientRow.directory_id) == directory_id,
            col(ClientRow.state) == "live",
            col(PersonRow.active),
            col(ClientOwnerRow.level) == "full",
        )
    )
    return [(key, name, person_id) for key, name, person_id in rows]


def at_own_api(
    session: Session, directory_id: UUID, now: datetime
) -> list[tuple[str, str, dict[str, list[str]] | None, str, str]]:
    """Return (client, permission, reach, what to end, role or empty) of what clients hold there as themselves."""
    consents = session.execute(
        sa.select(col(GrantRow.client_id), col(GrantRow.permission), col(GrantRow.reach), col(GrantRow.id))
        .join(ResourceRow, col(ResourceRow.id) == col(GrantRow.resource_id))
        .where(
            col(ResourceRow.directory_id) == directory_id,
            col(ResourceRow.name) == own_api.NAME,
            col(GrantRow.kind) == "application",
            col(GrantRow.granted_at) <= now,
            stands(now),
        )
    )
    found = [(client_id, name, reach, f"consent/{key}", "") for client_id, name, reach, key in consents]
    assigned = session.execute(
        sa.select(
            col(AssignmentRow.client_id),
            col(RoleRow.permissions),
            col(AssignmentRow.reach),
            col(AssignmentRow.id),
            col(RoleRow.name),
        )
        .join(RoleRow, col(RoleRow.id) == col(AssignmentRow.role_id))
        .join(ResourceRow, col(ResourceRow.id) == col(RoleRow.resource_id))
        .where(
            col(ResourceRow.directory_id) == directory_id,
            col(ResourceRow.name) == own_api.NAME,
            col(AssignmentRow.client_id).is_not(None),
            in_force(now),
        )
    )
    for client_id, names, reach, key, role in assigned:
        found += [(client_id, name, reach, f"role/{key}", f"the role {role}") for name in names]
    return found


def roles_by_person(
    session: Session, directory_id: UUID, now: datetime, giving: Collection[str] | None = None
) -> Sequence[tuple[UUID, str, str, list[str], dict[str, list[str]] | None, UUID]]:
    """Return (person, role, group or empty, permissions, reach, assignment) of what live people hold there.

    Args:
        giving: only roles that give one of these permissions; None: all.
    """
    asked = {"directory": directory_id, "now": now, "giving": sorted(giving or ())}
    rows = session.execute(_roles_by_person(some=giving is not None), asked)
    return [(who, role, via, names, reach, key) for who, role, via, names, reach, key in rows]


@cache
def _roles_by_person(*, some: bool) -> sa.CompoundSelect[Any]:
    directory = parameter("directory", sa.Uuid)
    inside = (
        sa.select(col(GroupRow.id).label("top"), col(GroupRow.id).label("group_id"))
        .where(col(GroupRow.directory_id) == directory)
        .cte("inside", recursive=True)
    )
    inside = inside.union(
        sa.select(inside.c.top, col(GroupInnerRow.inner_id)).join(
            inside, col(GroupInnerRow.group_id) == inside.c.group_id
        )
    )
    what: tuple[Any, ...] = (col(RoleRow.permissions), col(AssignmentRow.reach), col(AssignmentRow.id))
    here = (col(ResourceRow.directory_id) == directory) & (col(ResourceRow.name) == own_api.NAME)
    here &= in_force(parameter("now", MOMENT)) & col(PersonRow.active)
    if some:
        here &= col(RoleRow.permissions).op("&&")(parameter("giving", ARRAY(Text)))
    base = sa.join(AssignmentRow, RoleRow, col(RoleRow.id) == col(AssignmentRow.role_id)).join(
        ResourceRow, col(ResourceRow.id) == col(RoleRow.resource_id)
    )
    direct = sa.select(col(AssignmentRow.person_id).label("who"), col(RoleRow.name), sa.literal("").label("via"), *what)
    direct = direct.select_from(base.join(PersonRow, col(PersonRow.id) == col(AssignmentRow.person_id))).where(here)
    through = sa.select(col(GroupPersonRow.person_id).label("who"), col(RoleRow.name), col(GroupRow.name), *what)
    through = through.select_from(
        base.join(GroupRow, col(GroupRow.id) == col(AssignmentRow.group_id))
        .join(inside, inside.c.top == col(GroupRow.id))
        .join(GroupPersonRow, col(GroupPersonRow.group_id) == inside.c.group_id)
        .join(PersonRow, col(PersonRow.id) == col(GroupPersonRow.person_id))
    ).where(here)
    return sa.union_all(direct, through)
