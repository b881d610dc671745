"""Jamb's own API as a resource like any other: its operations, permissions and shipped roles.

Administrators, the console, the command line and automation are let in by the same decision as every client, so the
audit sees clients that could grant themselves more. Its objects are the clients: whoever owns one holds a role that
reaches it alone.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from jamb.core.access.standing import RoleHolding
from jamb.core.clients.clients import OwnerLevel
from jamb.core.own_api.every_permission import PERMISSIONS
from jamb.core.own_api.operations import CHANGES, HEAVY, OPERATIONS, READS_OWN
from jamb.core.permissions import Catalogue
from jamb.core.reach import Reach

__all__ = [
    "CHANGES",
    "FOR_GUARDS",
    "HEAVY",
    "MAKER",
    "NAME",
    "OBJECT_NAME",
    "OPERATIONS",
    "OWNER_PERMISSION",
    "PERMISSIONS",
    "READS_OWN",
    "ROLES",
    "ROLE_TITLES",
    "STEWARD",
    "own_catalogue",
    "own_roles",
]

NAME = "jamb"
OBJECT_NAME = "client"
# What the guard of a protected API does at ours.
FOR_GUARDS = ("usage.report", "revocations.read")
STEWARD = "steward"
ROLES = (
    RoleHolding("auditor", frozenset({"registry.read"})),
    RoleHolding("registrar", frozenset({"registry.write", "resources.manage"})),
    RoleHolding("approver", frozenset({"consent.decide"})),
    RoleHolding("custodian", frozenset({"credentials.manage"})),
    RoleHolding(
        STEWARD,
        frozenset(
            {
                "registry.write",
                "consent.decide",
                "credentials.manage",
                "resources.manage",
                "people.manage",
                "signing-keys.manage",
            }
        ),
    ),
)
ROLE_TITLES = {
    "auditor": "Reads everything and runs the audit",
    "registrar": "Registers clients and publishes resources",
    "approver": "Consents, and ends consents",
    "custodian": "Issues and withdraws credentials",
    STEWARD: "Everything",
}
OWNER_PERMISSION = {
    OwnerLevel.FULL: "clients.run-own",
    OwnerLevel.EDIT: "clients.edit-own",
    OwnerLevel.READ: "clients.read-own",
}


def own_catalogue(identifier: str) -> Catalogue:
    """Return the catalogue of Jamb's own API for the directory whose API has this identifier (audience)."""
    return Catalogue.of(NAME, "Jamb's own API", identifier, OPERATIONS, PERMISSIONS, OBJECT_NAME)


# What the policy gives whoever may register.
MAKER = RoleHolding("member", frozenset({"clients.start"}))


def own_roles(owned: Mapping[OwnerLevel, Iterable[str]], *, may_register: bool) -> tuple[RoleHolding, ...]:
    """Return the roles that ownership gives, reaching the owned clients alone, and that the policy gives everyone."""
    held = [
        RoleHolding(f"owner ({level.value})", frozenset({OWNER_PERMISSION[level]}), Reach.only(*ids))
        for level, ids in ((level, tuple(ids)) for level, ids in owned.items())
        if ids
    ]
    if may_register:
        held.append(MAKER)
    return tuple(held)
