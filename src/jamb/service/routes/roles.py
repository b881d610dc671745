"""Roles and who holds them."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends

from jamb.actions import roles
from jamb.actions.access import Admitted
from jamb.core.reach import EVERYWHERE
from jamb.service.callers import Now, TheOffice, may
from jamb.service.routing import api_router
from jamb.wire import roles as wire

router = api_router("/api/v1/directories/{directory}/roles", tags=["roles"])


@router.get("", dependencies=[Depends(may("roles.list"))])
def list_roles(directory: str, office: TheOffice, now: Now) -> list[wire.Role]:
    """The roles of the directory, shipped ones first, with who holds them where."""
    return [wire.Role.model_validate(one) for one in roles.list_roles(office.premises, directory, now)]


@router.put("/{role}")
def save_role(
    role: str,
    sent: wire.RoleSent,
    admitted: Annotated[Admitted, Depends(may("roles.save"))],
    office: TheOffice,
    now: Now,
) -> wire.Role:
    """Make a custom role, or change what one bundles."""
    saved = roles.save_role(
        office.premises, admitted.directory, role, sent.title, sent.resource, sent.permissions, admitted.actor, now
    )
    return wire.Role.model_validate(saved)


@router.delete("/{role}", status_code=204)
def remove_role(
    role: str, admitted: Annotated[Admitted, Depends(may("roles.remove"))], office: TheOffice, now: Now
) -> None:
    """Remove a custom role that nobody holds."""
    roles.remove_role(office.premises, admitted.directory, role, admitted.actor, now)


@router.post("/{role}/assignments")
def assign_role(
    role: str,
    sent: wire.NewAssignments,
    admitted: Annotated[Admitted, Depends(may("roles.assign"))],
    office: TheOffice,
    now: Now,
) -> wire.Role:
    """Assign a role to people, groups or clients, all or none, over any number of collections in one step."""
    reach = sent.reach.value() if sent.reach is not None else EVERYWHERE
    changed = roles.assign_role(
        office.premises,
        admitted.directory,
        role,
        sent.kind,
        sent.holders,
        reach,
        sent.expires_at,
        admitted.actor,
        now,
    )
    return wire.Role.model_validate(changed)


@router.post("/{role}/assignments/preview")
def preview_assignment(
    role: str,
    sent: wire.RolePreview,
    admitted: Annotated[Admitted, Depends(may("roles.preview"))],
    office: TheOffice,
    now: Now,
) -> list[wire.ClientGain]:
    """What a role would let clients do, and whether another person must agree. Changes nothing."""
    reach = sent.reach.value() if sent.reach is not None else EVERYWHERE
    found = roles.preview_assignment(
        office.premises, admitted.directory, role, sent.clients, reach, sent.expires_at, admitted.actor, now
    )
    return [wire.ClientGain.model_validate(one) for one in found]


@router.post("/{role}/assignments/withdrawal")
def withdraw_role(
    role: str,
    sent: wire.AssignmentsWithdrawal,
    admitted: Annotated[Admitted, Depends(may("roles.withdraw"))],
    office: TheOffice,
    now: Now,
) -> wire.Role:
    """Withdraw a role from its holders, all or none."""
    changed = roles.withdraw_role(
        office.premises, admitted.directory, role, sent.kind, sent.holders, admitted.actor, now
    )
    return wire.Role.model_validate(changed)
