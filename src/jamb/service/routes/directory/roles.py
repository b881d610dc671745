"""Roles and who holds them."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.directory import roles
from jamb.core.reach import EVERYWHERE
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_name
from jamb.service.http.routing import api_router
from jamb.service.http.versions import tagged
from jamb.wire.base.shapes import Page
from jamb.wire.directory import roles as wire

router = api_router("/api/v1/directories/{directory}/roles", tags=["roles"])


@router.get("")
def list_roles(act: Annotated[Act, may("roles.list")]) -> list[wire.Role]:
    """The roles of the directory, shipped ones first, with who holds them where."""
    return roles.list_roles(act)


@router.get("/{role}/holders")
def list_holders(
    role: str,
    act: Annotated[Act, may("roles.holders")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of a name or login")] = "",
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Assignment]:
    """Who holds a role, and where: groups, then people, then clients, each by name."""
    found, after, total = roles.list_holders(act, role, query=q, after=unpack_name(cursor), limit=limit)
    following = onward(request, response, after)
    return Page[wire.Assignment](items=found, next=following, total=total)


@router.put("/{role}")
def save_role(
    role: str,
    sent: wire.RoleSent,
    act: Annotated[Act, may("roles.save", edits=True)],
    response: Response,
) -> wire.Role:
    """Make a custom role, or change what one bundles."""
    return tagged(response, roles.save_role(act, role, sent.title, sent.resource, sent.permissions))


@router.delete("/{role}", status_code=204)
def remove_role(role: str, act: Annotated[Act, may("roles.remove")]) -> None:
    """Remove a custom role that nobody holds."""
    roles.remove_role(act, role)


@router.post("/{role}/assignments")
def assign_role(
    role: str,
    sent: wire.NewAssignments,
    act: Annotated[Act, may("roles.assign")],
) -> wire.Role:
    """Assign a role to people, groups or clients, all or none, over any number of collections in one step."""
    reach = sent.reach.value() if sent.reach is not None else EVERYWHERE
    return roles.assign_role(act, role, sent.kind, sent.holders, reach, sent.expires_at)


@router.post("/{role}/assignments/preview")
def preview_assignment(
    role: str,
    sent: wire.RolePreview,
    act: Annotated[Act, may("roles.preview")],
) -> list[wire.ClientGain]:
    """What a role would let clients do, and whether another person must agree. Changes nothing."""
    reach = sent.reach.value() if sent.reach is not None else EVERYWHERE
    return roles.preview_assignment(act, role, sent.clients, reach, sent.expires_at)


@router.post("/{role}/assignments/withdrawal")
def withdraw_role(
    role: str,
    sent: wire.AssignmentsWithdrawal,
    act: Annotated[Act, may("roles.withdraw")],
) -> wire.Role:
    """Withdraw a role from its holders, all or none."""
    return roles.withdraw_role(act, role, sent.kind, sent.holders)
