"""Roles, groups and who holds what."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.directory.roles import HolderKind
from jamb.wire.base.shapes import Answered, Moment, Sent, Versioned
from jamb.wire.resources.reach import Reach, ReachSent

Reference = Annotated[str, Field(min_length=1, max_length=200)]


class RoleSent(Sent):
    """A custom role, as sent and as kept in a file: the permissions of one resource that it bundles."""

    title: Annotated[str, Field(max_length=200)] = ""
    resource: Annotated[str, Field(min_length=1, max_length=300)]
    permissions: Annotated[list[Annotated[str, Field(max_length=80)]], Field(min_length=1, max_length=500)]


class Assignment(Answered):
    """A role as one holds it. `id` is a login, a group's name or a client id."""

    kind: HolderKind
    id: str
    name: str
    reach: Reach
    assigned_at: Moment
    assigned_by: str
    expires_at: Moment | None


class Role(Versioned):
    """`everything`: it opens all there is at its resource. Shipped roles do not change.

    `holders`: the first of them, of `holders_in_all`; all are at `/roles/{role}/holders`.
    """

    edited = frozenset({"title", "permissions"})

    name: str
    title: str
    resource: str
    permissions: list[str]
    shipped: bool
    opens: int
    weight: int
    everything: bool
    holders: list[Assignment]
    holders_in_all: int


class NewAssignments(Sent):
    """To whom: logins or ids of people, names of groups, or client ids; over any number of collections at once."""

    kind: HolderKind
    holders: Annotated[list[Reference], Field(min_length=1, max_length=500)]
    reach: ReachSent | None = None
    expires_at: Moment | None = None


class RolePreview(Sent):
    """Which clients would get a role, over what, until when."""

    clients: Annotated[list[Reference], Field(min_length=1, max_length=500)]
    reach: ReachSent | None = None
    expires_at: Moment | None = None


class ClientGain(Answered):
    """What a client could do that it cannot do yet; `agreement`: why another person must agree, and who could."""

    client_id: str
    name: str
    newly: list[str]
    wider: list[str]
    weight: float
    agreement: str


class AssignmentsWithdrawal(Sent):
    kind: HolderKind
    holders: Annotated[list[Reference], Field(min_length=1, max_length=500)]


class GroupSent(Sent):
    """All members: they take the place of those the group has. People by login or id, groups by name."""

    title: Annotated[str, Field(max_length=200)] = ""
    people: Annotated[list[Reference], Field(max_length=10_000)] = Field(default_factory=list)
    groups: Annotated[list[Reference], Field(max_length=1000)] = Field(default_factory=list)


class Member(Answered):
    id: UUID
    name: str
    login: str


class Group(Versioned):
    """`everyone` counts the people of this group and of all groups within it."""

    edited = frozenset({"title", "people", "groups"})

    name: str
    title: str
    people: list[Member]
    groups: list[str]
    everyone: int
