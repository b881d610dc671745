"""Roles, groups, and who holds which role where: people, groups and clients."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from functools import cache
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import CheckConstraint, Column, ForeignKey, Index, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import ARRAY, insert
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.access import HeldGrant, PersonStanding, RoleHolding
from jamb.core.permissions import AccessKind
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.base import pages
from jamb.store.base.columns import MOMENT, among_ids, bound, has, moment, one_of, parameter, words
from jamb.store.directory.people import PersonRow


class GroupRow(SQLModel, table=True):
    __tablename__ = "person_group"
    __table_args__ = (UniqueConstraint("directory_id", "name", name="group_name_taken"),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    name: str = Field(sa_type=Text)
    title: str = Field(default="", sa_type=Text)


class GroupPersonRow(SQLModel, table=True):
    __tablename__ = "group_person"

    group_id: UUID = Field(sa_column=Column(ForeignKey("person_group.id"), primary_key=True))
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id"), primary_key=True, index=True))


class GroupInnerRow(SQLModel, table=True):
    """A group within a group."""

    __tablename__ = "group_inner"

    group_id: UUID = Field(sa_column=Column(ForeignKey("person_group.id"), primary_key=True))
    inner_id: UUID = Field(sa_column=Column(ForeignKey("person_group.id"), primary_key=True, index=True))


class RoleRow(SQLModel, table=True):
    """A named bundle of permissions of one resource. Shipped ones come with Jamb and do not change.

    Removed ones are kept, out of sight: guards must hear of what their holders lost.
    """

    __tablename__ = "role"
    __table_args__ = (
        Index("role_name_taken", "directory_id", "name", unique=True, postgresql_where=sa.text("removed_at IS NULL")),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    resource_id: UUID = Field(foreign_key="resource.id", index=True)
    name: str = Field(sa_type=Text)
    title: str = Field(default="", sa_type=Text)
    permissions: list[str] = words()
    shipped: bool = False
    removed_at: datetime | None = moment(nullable=True)


class AssignmentRow(SQLModel, table=True):
    """A role held by one person, group or client, once: whoever gets it again gets a new row.

    Ended ones are kept, so that tokens from before stay refused.
    """

    __tablename__ = "role_assignment"
    __table_args__ = (
        CheckConstraint("num_nonnulls(person_id, group_id, client_id) = 1", name="role_has_one_holder"),
        Index("role_assignment_by_client", "client_id"),
    )

    id: UUID = Field(primary_key=True)
    role_id: UUID = Field(foreign_key="role.id", index=True)
    person_id: UUID | None = Field(default=None, foreign_key="person.id", index=True)
    group_id: UUID | None = Field(default=None, foreign_key="person_group.id", index=True)
    client_id: str | None = Field(default=None, foreign_key="client.id", sa_type=Text)
    reach: dict[str, list[str]] | None = bound()
    assigned_at: datetime = moment()
    assigned_by: str = Field(default="", sa_type=Text)
    expires_at: datetime | None = moment(nullable=True)
    narrowed_at: datetime | None = moment(nullable=True)

    def grants(self, role: RoleRow) -> list[HeldGrant]:
        """Return what the role gives the client that holds it."""
        reach = reach_of(self.reach)
        return [given(role.name, name, self.assigned_at, self.expires_at, reach) for name in role.permissions]


def given(role: str, permission: str, since: datetime, until: datetime | None, reach: Reach) -> HeldGrant:
    """Return a permission that a role gives a client."""
    return HeldGrant(permission, AccessKind.APPLICATION, since, until, reach, through=f"the role {role}")


_STANDS = col(RoleRow.removed_at).is_(None)


def in_force(now: datetime | sa.BindParameter[datetime]) -> sa.ColumnElement[bool]:
    return (col(AssignmentRow.assigned_at) <= now) & (
        col(AssignmentRow.expires_at).is_(None) | (col(AssignmentRow.expires_at) > now)
    )


_IN_GROUP, _INNER = SQLModel.metadata.tables["group_person"], SQLModel.metadata.tables["group_inner"]


def _groups_around(person_id: UUID | sa.ColumnElement[UUID], *outer: sa.Table) -> sa.CTE:
    """Return the ids of all groups that a person belongs to, however deep.

    Args:
        outer: the tables of the statement within which the person is one of many; none: it is about one person.
    """
    direct = sa.select(_IN_GROUP.c.group_id).where(_IN_GROUP.c.person_id == person_id)
    mine = (direct.correlate(*outer) if outer else direct).cte("mine", recursive=True, nesting=bool(outer))
    return mine.union(sa.select(_INNER.c.group_id).join(mine, _INNER.c.inner_id == mine.c.group_id))


def _theirs(person_id: UUID | sa.ColumnElement[UUID], mine: sa.CTE) -> sa.ColumnElement[bool]:
    """Return whether an assignment is the person's own, or one of their groups'.

    As an array both are looked up by their index; beside a subquery every assignment of the database would be read.
    """
    groups = sa.func.array(sa.select(mine.c.group_id).scalar_subquery(), type_=ARRAY(sa.Uuid))
    return (col(AssignmentRow.person_id) == person_id) | (col(AssignmentRow.group_id) == sa.any_(groups))


def standing(session: Session, person: PersonRow, resource_id: UUID, now: datetime) -> PersonStanding:
    """Return what the person may do at one resource, by roles of their own and of their groups."""
    rows = session.execute(_standing(), {"person": person.id, "resource": resource_id, "now": now})
    roles = tuple(
        RoleHolding(name, frozenset(permissions), reach_of(reach), group or "")
        for name, permissions, reach, group in rows
    )
    return PersonStanding(str(person.id), person.name, person.active, roles)


@cache
def _standing() -> sa.Select[Any]:
    """Return the statement of `standing`: made once, for it is run at every call."""
    columns: list[Any] = [col(RoleRow.name), col(RoleRow.permissions), col(AssignmentRow.reach), col(GroupRow.name)]
    person, resource = parameter("person", sa.Uuid), parameter("resource", sa.Uuid)
    held = held_at(sa.select(*columns), person, resource, parameter("now", MOMENT))
    return held.order_by(col(RoleRow.name), col(GroupRow.name))


def held_at(
    what: sa.Select[Any],
    person: sa.ColumnElement[UUID],
    resource: sa.ColumnElement[UUID],
    now: sa.BindParameter[datetime],
    *outer: sa.Table,
) -> sa.Select[Any]:
    """Return a query of roles that a person holds at a resource now, themselves and by their groups.

    Args:
        outer: as of `_groups_around`.
    """
    mine = _groups_around(person, *outer)
    held = (
        what.select_from(RoleRow)
        .join(AssignmentRow, col(AssignmentRow.role_id) == col(RoleRow.id))
        .outerjoin(GroupRow, col(GroupRow.id) == col(AssignmentRow.group_id))
        .where(
            col(RoleRow.resource_id) == resource,
            in_force(now),
            _theirs(person, mine),
        )
    )
    return held.correlate(*outer) if outer else held


@dataclass(frozen=True, slots=True)
class RoleHeld:
    """What a role gives a person at one resource, themselves or by a group; it may begin later."""

    resource_id: UUID
    permissions: frozenset[str]
    reach: Reach
    begins_at: datetime
    ends_at: datetime | None

    def in_force(self, now: datetime) -> bool:
        return self.begins_at <= now and (self.ends_at is None or now < self.ends_at)


def held_by_people(session: Session, person_ids: Iterable[UUID], now: datetime) -> dict[UUID, list[RoleHeld]]:
    """Return what people hold by roles of their own and of their groups, and will hold; by person."""
    ids = list(person_ids)
    if not ids:
        return {}
    found: dict[UUID, list[RoleHeld]] = {}
    rows = session.execute(_held_by_people(), {"people": ids, "now": now})
    for person_id, resource_id, permissions, reach, begins_at, ends_at in rows:
        held = RoleHeld(resource_id, frozenset(permissions), reach_of(reach), begins_at, ends_at)
        found.setdefault(person_id, []).append(held)
    return found


@cache
def _held_by_people() -> sa.CompoundSelect[Any]:
    now = parameter("now", MOMENT)
    mine = (
        sa.select(_IN_GROUP.c.person_id, _IN_GROUP.c.group_id)
        .where(one_of(_IN_GROUP.c.person_id, "people", sa.Uuid))
        .cte("theirs", recursive=True)
    )
    mine = mine.union(sa.select(mine.c.person_id, _INNER.c.group_id).join(mine, _INNER.c.inner_id == mine.c.group_id))
    what: tuple[Any, ...] = (
        col(RoleRow.resource_id),
        col(RoleRow.permissions),
        col(AssignmentRow.reach),
        col(AssignmentRow.assigned_at),
        col(AssignmentRow.expires_at),
    )
    roles = col(RoleRow.id) == col(AssignmentRow.role_id)
    not_ended = col(AssignmentRow.expires_at).is_(None) | (col(AssignmentRow.expires_at) > now)
    own = sa.select(col(AssignmentRow.person_id).label("person_id"), *what).join(RoleRow, roles)
    through: sa.Select[Any] = sa.select(mine.c.person_id, *what).join(
        AssignmentRow, col(AssignmentRow.group_id) == mine.c.group_id
    )
    return sa.union_all(
        own.where(one_of(AssignmentRow.person_id, "people", sa.Uuid), not_ended),
        through.join(RoleRow, roles).where(not_ended),
    )


def powers_of(
    session: Session, person_id: UUID, now: datetime, until: datetime | None
) -> list[tuple[UUID, list[str], dict[str, list[str]] | None]]:
    """Return (resource, permissions, reach) of each role that a person holds, also by a group, at any resource.

    Args:
        until: roles that end before this moment are left out; None: all that end.
    """
    values = {"person": person_id, "now": now, **({} if until is None else {"until": until})}
    rows = session.execute(_powers(endless=until is None), values)
    return [(key, names, reach) for key, names, reach in rows]


@cache
def _powers(*, endless: bool) -> sa.Select[Any]:
    person, ends = parameter("person", sa.Uuid), col(AssignmentRow.expires_at)
    lasts = ends.is_(None) if endless else ends.is_(None) | (ends >= parameter("until", MOMENT))
    what: tuple[Any, ...] = (col(RoleRow.resource_id), col(RoleRow.permissions), col(AssignmentRow.reach))
    return (
        sa.select(*what)
        .join(AssignmentRow, col(AssignmentRow.role_id) == col(RoleRow.id))
        .where(in_force(parameter("now", MOMENT)), lasts, _theirs(person, _groups_around(person)))
    )


def powers_of_group(
    session: Session, group_id: UUID, now: datetime
) -> list[tuple[UUID, list[str], dict[str, list[str]] | None]]:
    """Return (resource, permissions, reach) of each role that membership of a group gives: its own, and those of the
    groups in which it lies."""
    around = sa.select(sa.bindparam("group", group_id, sa.Uuid).label("group_id")).cte("around", recursive=True)
    around = around.union(sa.select(_INNER.c.group_id).join(around, _INNER.c.inner_id == around.c.group_id))
    rows = session.execute(
        sa.select(col(RoleRow.resource_id), col(RoleRow.permissions), col(AssignmentRow.reach))
        .join(AssignmentRow, col(AssignmentRow.role_id) == col(RoleRow.id))
        .where(in_force(now), col(AssignmentRow.group_id).in_(sa.select(around.c.group_id)))
    )
    return [(key, names, reach) for key, names, reach in rows]


def groups_around(session: Session, person_id: UUID) -> set[str]:
    """Return the names of all groups that a person belongs to, however deep."""
    return set(session.scalars(_names_around(), {"person": person_id}))


@cache
def _names_around() -> sa.Select[str]:
    mine = _groups_around(parameter("person", sa.Uuid))
    return sa.select(col(GroupRow.name)).where(col(GroupRow.id).in_(sa.select(mine.c.group_id)))


def people_within(session: Session, group_ids: Iterable[UUID]) -> dict[UUID, list[PersonRow]]:
    """Return the people of groups and of all groups within them, by the group asked for."""
    wanted = list(group_ids)
    if not wanted:
        return {}
    inside = (
        sa.select(col(GroupRow.id).label("top"), col(GroupRow.id).label("group_id"))
        .where(col(GroupRow.id).in_(wanted))
        .cte("inside", recursive=True)
    )
    inside = inside.union(
        sa.select(inside.c.top, _INNER.c.inner_id).join(inside, _INNER.c.group_id == inside.c.group_id)
    )
    rows = session.exec(
        select(inside.c.top, PersonRow)
        .join(_IN_GROUP, _IN_GROUP.c.group_id == inside.c.group_id)
        .join(PersonRow, col(PersonRow.id) == _IN_GROUP.c.person_id)
        .distinct()
        .order_by(inside.c.top, PersonRow.name)
    )
    found: dict[UUID, list[PersonRow]] = {}
    for top, person in rows:
        found.setdefault(top, []).append(person)
    return found


def role_names(session: Session, directory_id: UUID, now: datetime, *person_ids: UUID) -> dict[UUID, list[str]]:
    """Return the names of the roles that these people hold themselves, by person."""
    rows = session.exec(
        select(AssignmentRow.person_id, RoleRow.name)
        .join(RoleRow, col(RoleRow.id) == AssignmentRow.role_id)
        .where(RoleRow.directory_id == directory_id, in_force(now))
        .where(among_ids(AssignmentRow.person_id, person_ids))
        .order_by(RoleRow.name)
    )
    names: dict[UUID, list[str]] = {}
    for holder, name in rows:
        assert holder is not None
        names.setdefault(holder, []).append(name)
    return names


def group_names(session: Session, person_ids: Iterable[UUID]) -> dict[UUID, list[str]]:
    """Return the names of the groups to which these people belong themselves, by person."""
    rows = session.execute(
        select(GroupPersonRow.person_id, GroupRow.name)
        .join(GroupRow, col(GroupRow.id) == GroupPersonRow.group_id)
        .where(among_ids(GroupPersonRow.person_id, person_ids))
        .order_by(GroupRow.name)
    )
    names: dict[UUID, list[str]] = {}
    for person, name in rows:
        names.setdefault(person, []).append(name)
    return names


def roles_of_resource(session: Session, resource_id: UUID) -> list[RoleHolding]:
    rows = session.exec(select(RoleRow).where(RoleRow.resource_id == resource_id, _STANDS).order_by(RoleRow.name))
    return [RoleHolding(row.name, frozenset(row.permissions)) for row in rows]


def roles_of(session: Session, directory_id: UUID) -> list[RoleRow]:
    wanted = select(RoleRow).where(RoleRow.directory_id == directory_id, _STANDS)
    return list(session.exec(wanted.order_by(RoleRow.name)))


def role_by_name(session: Session, directory_id: UUID, name: str, *, lock: bool = False) -> RoleRow | None:
    statement = select(RoleRow).where(RoleRow.directory_id == directory_id, RoleRow.name == name, _STANDS)
    return session.exec(statement.with_for_update() if lock else statement).first()


def names_assigned(session: Session, assignment_ids: Iterable[UUID]) -> dict[UUID, str]:
    """Return the names of the roles that these assignments give, by assignment."""
    named = select(AssignmentRow.id, RoleRow.name).join(RoleRow, col(RoleRow.id) == AssignmentRow.role_id)
    return {row[0]: row[1] for row in session.execute(named.where(among_ids(AssignmentRow.id, assignment_ids)))}


def groups_of(session: Session, directory_id: UUID) -> list[GroupRow]:
    return list(session.exec(select(GroupRow).where(GroupRow.directory_id == directory_id).order_by(GroupRow.name)))


def groups_page(
    session: Session, directory_id: UUID, query: str, after: str | None, limit: int
) -> tuple[Sequence[GroupRow], int]:
    """Return a page of the groups of a directory, by name, and how many are found in all; `query`: in name or title."""
    wanted = select(GroupRow).where(GroupRow.directory_id == directory_id)
    if query:
        wanted = wanted.where(has(GroupRow.name, query) | has(GroupRow.title, query))
    return pages.by_name(session, wanted, GroupRow.name, after, limit)


def group_by_name(session: Session, directory_id: UUID, name: str) -> GroupRow | None:
    return session.exec(select(GroupRow).where(GroupRow.directory_id == directory_id, GroupRow.name == name)).first()


def inner_groups(session: Session, directory_id: UUID) -> dict[str, list[str]]:
    """Return the names of the groups that lie directly in each group of a directory."""
    holder, inner = sa.orm.aliased(GroupRow), sa.orm.aliased(GroupRow)
    rows = session.exec(
        select(holder.name, inner.name)
        .join(GroupInnerRow, col(GroupInnerRow.group_id) == holder.id)
        .join(inner, col(inner.id) == GroupInnerRow.inner_id)
        .where(holder.directory_id == directory_id)
        .order_by(inner.name)
    )
    found: dict[str, list[str]] = {}
    for name, member in rows:
        found.setdefault(name, []).append(member)
    return found


def direct_people(session: Session, directory_id: UUID) -> dict[str, list[PersonRow]]:
    """Return the people that belong directly to each group of a directory."""
    rows = session.exec(
        select(GroupRow.name, PersonRow)
        .join(GroupPersonRow, col(GroupPersonRow.group_id) == GroupRow.id)
        .join(PersonRow, col(PersonRow.id) == GroupPersonRow.person_id)
        .where(GroupRow.directory_id == directory_id)
        .order_by(PersonRow.name)
    )
    found: dict[str, list[PersonRow]] = {}
    for name, person in rows:
        found.setdefault(name, []).append(person)
    return found


def roles_of_clients(session: Session, client_ids: Iterable[str]) -> dict[str, list[tuple[AssignmentRow, RoleRow]]]:
    """Return the roles that clients hold or held, by client."""
    found: dict[str, list[tuple[AssignmentRow, RoleRow]]] = {}
    for held, role in session.execute(_of_clients(), {"clients": list(client_ids)}):
        assert held.client_id is not None
        found.setdefault(held.client_id, []).append((held, role))
    return found


@cache
def _of_clients() -> sa.Select[AssignmentRow, RoleRow]:
    return (
        sa.select(AssignmentRow, RoleRow)
        .join(RoleRow, col(RoleRow.id) == col(AssignmentRow.role_id))
        .where(one_of(AssignmentRow.client_id, "clients"))
        .order_by(col(RoleRow.name))
    )


@dataclass(frozen=True, slots=True)
class Holder:
    """A role as somebody holds it: exactly one of person, group and client."""

    role: RoleRow
    held: AssignmentRow
    person: PersonRow | None
    group: GroupRow | None
    client_name: str | None


def holders_of(session: Session, role_ids: Iterable[UUID], now: datetime) -> list[Holder]:
    """Return who holds these roles now, directly: groups, people, clients, each by name."""
    wanted, key = _holding(role_ids, now)
    return [Holder(*row) for row in session.execute(wanted.order_by(col(RoleRow.name), key, col(AssignmentRow.id)))]


def first_holders(
    session: Session, role_ids: Iterable[UUID], now: datetime, each: int
) -> tuple[list[Holder], dict[UUID, int]]:
    """Return the first so many holders of each of these roles, and how many each has."""
    wanted, key = _holding(role_ids, now)
    place = sa.func.row_number().over(partition_by=col(RoleRow.id), order_by=(key, col(AssignmentRow.id)))
    numbered = wanted.with_only_columns(col(AssignmentRow.id).label("id"), place.label("place")).subquery()
    shown = wanted.where(col(AssignmentRow.id).in_(sa.select(numbered.c.id).where(numbered.c.place <= each)))
    rows = session.execute(shown.order_by(col(RoleRow.name), key, col(AssignmentRow.id)))
    many = wanted.with_only_columns(col(RoleRow.id), sa.func.count()).group_by(col(RoleRow.id))
    return [Holder(*row) for row in rows], {role_id: int(number) for role_id, number in session.execute(many)}


def holders_page(
    session: Session, role_id: UUID, now: datetime, *, query: str, after: tuple[str, str] | None, limit: int
) -> tuple[list[tuple[Holder, str]], int]:
    """Return a page of who holds a role, each with its place in the order, and how many are found in all."""
    wanted, key = _holding([role_id], now)
    if query:
        client: Any = SQLModel.metadata.tables["client"]
        fields = (PersonRow.name, PersonRow.login, GroupRow.name, GroupRow.title, client.c.name)
        wanted = wanted.where(sa.or_(*(has(field, query) for field in fields)))
    total = pages.count_of(session, wanted)
    if after is not None:
        start = sa.tuple_(sa.literal(after[0]), sa.literal(UUID(after[1])))
        wanted = wanted.where(sa.tuple_(key, col(AssignmentRow.id)) > start)
    rows = session.execute(wanted.add_columns(key).order_by(key, col(AssignmentRow.id)).limit(limit))
    return [(Holder(*row[:-1]), row[-1]) for row in rows], total


def _holding(role_ids: Iterable[UUID], now: datetime) -> tuple[sa.Select[Any], sa.ColumnElement[str]]:
    """Return the statement of who holds these roles now, and the order within one."""
    client: Any = SQLModel.metadata.tables["client"]
    wanted: sa.Select[Any] = (
        sa.select(RoleRow, AssignmentRow, PersonRow, GroupRow, client.c.name)
        .join(AssignmentRow, col(AssignmentRow.role_id) == col(RoleRow.id))
        .outerjoin(PersonRow, col(PersonRow.id) == col(AssignmentRow.person_id))
        .outerjoin(GroupRow, col(GroupRow.id) == col(AssignmentRow.group_id))
        .outerjoin(client, client.c.id == col(AssignmentRow.client_id))
        .where(among_ids(RoleRow.id, role_ids), in_force(now))
    )
    key = sa.case(
        (col(AssignmentRow.group_id).is_not(None), sa.literal("1") + col(GroupRow.name)),
        (col(AssignmentRow.person_id).is_not(None), sa.literal("2") + col(PersonRow.name)),
        else_=sa.literal("3") + client.c.name,
    )
    return wanted, sa.type_coerce(key.collate("C"), Text)


def bounded_at(session: Session, resource_id: UUID, now: datetime) -> list[tuple[str, Reach]]:
    """Return each bounded reach with which roles of a resource are held, with the name of the role."""
    rows = session.exec(
        select(RoleRow.name, AssignmentRow.reach)
        .join(AssignmentRow, col(AssignmentRow.role_id) == RoleRow.id)
        .where(RoleRow.resource_id == resource_id, col(AssignmentRow.reach).is_not(None), in_force(now))
    )
    return [(f"the role {name}", reach_of(reach)) for name, reach in rows]


def bundling(session: Session, resource_id: UUID, permissions: Iterable[str]) -> list[RoleRow]:
    """Return the roles of a resource that bundle any of these permissions."""
    overlapping = col(RoleRow.permissions).op("&&")(sa.bindparam(None, list(permissions), ARRAY(Text)))
    return list(session.exec(select(RoleRow).where(RoleRow.resource_id == resource_id, _STANDS, overlapping)))


class HoldsRole(NamedTuple):
    """A live person who holds one of some roles, themselves or by a group, and where those count."""

    person: PersonRow
    reaches: list[Reach]

    def counts_for(self, client_id: str | None) -> bool:
        """Tell whether one counts for a client; None: for what is about no client in particular."""
        return any(reach.counts_for(client_id) for reach in self.reaches)


def holding_roles(session: Session, directory_id: UUID, names: Collection[str], now: datetime) -> list[HoldsRole]:
    """Return the live people who hold one of these roles, themselves or by a group."""
    found = [role for role in roles_of(session, directory_id) if role.name in names]
    held = holders_of(session, [role.id for role in found], now)
    inside = people_within(session, [one.group.id for one in held if one.group is not None])
    holding: dict[UUID, HoldsRole] = {}
    for one in held:
        people = inside.get(one.group.id, []) if one.group is not None else [one.person]
        for person in people:
            if person is not None and person.active:
                holding.setdefault(person.id, HoldsRole(person, [])).reaches.append(reach_of(one.held.reach))
    return list(holding.values())


def assignments_of_client(session: Session, client_id: str) -> list[AssignmentRow]:
    """Return what a client holds or held by roles."""
    return list(session.exec(select(AssignmentRow).where(AssignmentRow.client_id == client_id)))


def standing_assignment(
    session: Session, role_id: UUID, column: str, holder_id: UUID | str, now: datetime
) -> AssignmentRow | None:
    """Return the assignment of a role that has not ended. `column`: person_id, group_id or client_id."""
    return session.exec(
        select(AssignmentRow).where(
            AssignmentRow.role_id == role_id,
            col(getattr(AssignmentRow, column)) == holder_id,
            col(AssignmentRow.expires_at).is_(None) | (col(AssignmentRow.expires_at) > now),
        )
    ).first()


def roles_of_group(session: Session, group_id: UUID, now: datetime) -> list[str]:
    """Return the names of the roles that a group holds itself."""
    return list(
        session.exec(
            select(RoleRow.name)
            .join(AssignmentRow, col(AssignmentRow.role_id) == RoleRow.id)
            .where(AssignmentRow.group_id == group_id, in_force(now))
        )
    )


def lock_groups(session: Session, directory_id: UUID) -> None:
    """Lock the groups of a directory: one writer at a time."""
    session.execute(sa.select(GroupRow).where(col(GroupRow.directory_id) == directory_id).with_for_update())


def put_members(session: Session, group_id: UUID, people: Iterable[UUID], groups: Iterable[UUID]) -> None:
    """Make these, and no others, the members of a group."""
    session.execute(sa.delete(GroupPersonRow).where(col(GroupPersonRow.group_id) == group_id))
    session.execute(sa.delete(GroupInnerRow).where(col(GroupInnerRow.group_id) == group_id))
    session.add_all(GroupPersonRow(group_id=group_id, person_id=person_id) for person_id in people)
    session.add_all(GroupInnerRow(group_id=group_id, inner_id=inner_id) for inner_id in groups)
    session.flush()


def direct_groups_of(session: Session, person_id: UUID) -> set[str]:
    """Return the names of the groups that a person is in themself."""
    mine = select(GroupRow.name).join(GroupPersonRow, col(GroupPersonRow.group_id) == GroupRow.id)
    return set(session.exec(mine.where(GroupPersonRow.person_id == person_id)))


def put_in(session: Session, group_id: UUID, person_id: UUID) -> None:
    """Put a person into a group, unless they are in it."""
    member = insert(GroupPersonRow).values(group_id=group_id, person_id=person_id)
    session.execute(member.on_conflict_do_nothing())


def take_out(session: Session, group_id: UUID, person_id: UUID) -> None:
    member = (col(GroupPersonRow.group_id) == group_id) & (col(GroupPersonRow.person_id) == person_id)
    session.execute(sa.delete(GroupPersonRow).where(member))


def drop_assignments_of_group(session: Session, group_id: UUID) -> None:
    """Drop the roles that a group held before."""
    session.execute(sa.delete(AssignmentRow).where(col(AssignmentRow.group_id) == group_id))
