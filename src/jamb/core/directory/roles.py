"""Roles: what one may bundle, who may hold it, and which is too much for a client."""

from __future__ import annotations

import re
from collections.abc import Sequence
from enum import StrEnum

from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput, TopRole, Unsuited, Violation, shorten
from jamb.core.permissions import AccessKind, Catalogue

# Names of roles and groups alike: they stand in addresses and commands.
SHORT_NAME = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*\Z")
NAME_LONGEST = 60


class HolderKind(StrEnum):
    PERSON = "person"
    GROUP = "group"
    CLIENT = "client"


def check_short_name(field: str, name: str) -> None:
    """Raise `BadInput` unless the name is fit for a role or a group."""
    if len(name) > NAME_LONGEST or not SHORT_NAME.match(name):
        raise BadInput.field(field, name, f"lower-case words joined by hyphens, at most {NAME_LONGEST} characters")


def check_bundle(catalogue: Catalogue, permissions: Sequence[str]) -> None:
    """Raise `BadInput` unless these are permissions of the resource, and at least one."""
    unknown = [name for name in permissions if name not in catalogue.permissions]
    if unknown or not permissions:
        known = ", ".join(sorted(catalogue.permissions)[:20])
        sent = ", ".join(map(shorten, unknown)) or "nothing"
        raise Unsuited.field("permissions", sent, f"permissions of {catalogue.name}: {known}")


def holds_everything(catalogue: Catalogue, permissions: Sequence[str]) -> bool:
    """Tell whether a bundle opens all that people or clients can be given at a resource."""
    every = frozenset().union(
        *(catalogue.opened_by(name) for name, item in catalogue.permissions.items() if len(item.kinds) > 1)
    ) or frozenset(catalogue.operations)
    return catalogue.opened_by_all(permissions) >= every


def check_for_client(policy: DirectoryPolicy, catalogue: Catalogue, name: str, permissions: Sequence[str]) -> None:
    """Refuse a role that no client may hold.

    Raises:
        BadInput: it bundles permissions that a client cannot hold as itself. TopRole: it holds everything, and the
            policy keeps such roles from clients.
    """
    delegated = [
        one
        for one in permissions
        if one in catalogue.permissions and AccessKind.APPLICATION not in catalogue.permissions[one].kinds
    ]
    if delegated:
        allowed = "permissions that a client can hold as itself"
        raise Unsuited.field("role", ", ".join(delegated), allowed, "Make a role without them.")
    if holds_everything(catalogue, permissions) and not policy.top_role_for_clients:
        raise TopRole(
            f"{name} holds everything at {catalogue.name}: the policy keeps such roles from clients.",
            violations=(Violation("role", name, "a role that leaves something out"),),
            next_step="Assign a smaller role; `jamb explain` names the smallest that would do.",
        )
