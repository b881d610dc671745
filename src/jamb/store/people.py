"""People, the roles they hold, and their console sessions."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlalchemy import Column, ForeignKey, Text, UniqueConstraint
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.access import PersonStanding, RoleHolding
from jamb.store.columns import blob, moment, words


class PersonRow(SQLModel, table=True):
    __tablename__ = "person"
    __table_args__ = (UniqueConstraint("login", name="person_login_taken"),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id", index=True)
    login: str = Field(sa_type=Text)
    name: str = Field(sa_type=Text)
    password_hash: str | None = Field(default=None, sa_type=Text)
    live: bool = True
    failed_sign_ins: int = 0
    barred_until: datetime | None = moment(nullable=True)
    created_at: datetime = moment()


class RoleRow(SQLModel, table=True):
    """A named bundle of permissions of one resource."""

    __tablename__ = "role"
    __table_args__ = (UniqueConstraint("directory_id", "name", name="role_name_taken"),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    resource_id: UUID = Field(foreign_key="resource.id")
    name: str = Field(sa_type=Text)
    permissions: list[str] = words()


class RoleAssignmentRow(SQLModel, table=True):
    __tablename__ = "role_assignment"

    role_id: UUID = Field(sa_column=Column(ForeignKey("role.id"), primary_key=True))
    person_id: UUID = Field(sa_column=Column(ForeignKey("person.id"), primary_key=True, index=True))


class ConsoleSessionRow(SQLModel, table=True):
    """A signed-in browser. Only the digest of its cookie is kept."""

    __tablename__ = "console_session"

    digest: bytes = blob(primary_key=True)
    person_id: UUID = Field(foreign_key="person.id", index=True)
    created_at: datetime = moment()
    expires_at: datetime = moment()


def by_login(session: Session, login: str, *, lock: bool = False) -> PersonRow | None:
    statement = select(PersonRow).where(PersonRow.login == login)
    return session.exec(statement.with_for_update() if lock else statement).first()


def people_of(session: Session, directory_id: UUID) -> list[PersonRow]:
    return list(session.exec(select(PersonRow).where(PersonRow.directory_id == directory_id).order_by(PersonRow.name)))


def role_names(session: Session, directory_id: UUID) -> dict[UUID, list[str]]:
    """Return role names by person of a directory."""
    rows = session.exec(
        select(RoleAssignmentRow.person_id, RoleRow.name)
        .join(RoleRow, col(RoleRow.id) == RoleAssignmentRow.role_id)
        .where(RoleRow.directory_id == directory_id)
        .order_by(RoleRow.name)
    )
    names: dict[UUID, list[str]] = {}
    for person_id, name in rows:
        names.setdefault(person_id, []).append(name)
    return names


def roles_of_resource(session: Session, resource_id: UUID) -> list[RoleHolding]:
    rows = session.exec(select(RoleRow).where(RoleRow.resource_id == resource_id).order_by(RoleRow.name))
    return [RoleHolding(row.name, frozenset(row.permissions)) for row in rows]


def standing(session: Session, person: PersonRow, resource_id: UUID) -> PersonStanding:
    """Return what the person may do at one resource."""
    rows = session.exec(
        select(RoleRow)
        .join(RoleAssignmentRow, col(RoleAssignmentRow.role_id) == RoleRow.id)
        .where(RoleAssignmentRow.person_id == person.id, RoleRow.resource_id == resource_id)
    )
    roles = tuple(RoleHolding(row.name, frozenset(row.permissions)) for row in rows)
    return PersonStanding(str(person.id), person.name, person.live, roles)
