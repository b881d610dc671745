"""Resources: operations, permissions, what unlocks what."""

from __future__ import annotations

from collections.abc import Iterable

from jamb.core import permissions
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, weigh, weigh_operation
from jamb.wire.base import Answered


class ResourceLine(Answered):
    name: str
    title: str
    identifier: str
    operations: int
    permissions: int


class Operation(Answered):
    """`unlocked_by` names the permissions that open it, the one that opens least else first."""

    name: str
    title: str
    method: str
    path: str
    effect: Effect
    data_class: DataClass
    weight: int
    unlocked_by: list[str]


class Permission(Answered):
    """`opens` is everything possible with it: what it unlocks and what the permissions it implies unlock."""

    name: str
    title: str
    kinds: list[AccessKind]
    unlocks: list[str]
    implies: list[str]
    opens: list[str]
    weight: int


class Resource(Answered):
    name: str
    title: str
    identifier: str
    operations: list[Operation]
    permissions: list[Permission]


class Alternative(Answered):
    """One permission seen from the need: which of it is opened, and what beyond it."""

    permission: str
    title: str
    covers: list[str]
    beyond: list[str]
    beyond_weight: int


class Proposal(Answered):
    """The smallest permissions for the needed operations: least weight beyond the need, then fewest.

    `exact`: proven smallest; otherwise no set weighs less beyond the need than `bound`. `held` is what the client asks
    or holds already and need not ask again. `unreachable` operations are opened by no permission of this kind.
    """

    resource: str
    kind: AccessKind
    needed: list[str]
    held: list[str]
    permissions: list[str]
    beyond: list[Operation]
    beyond_weight: int
    exact: bool
    bound: int
    unreachable: list[str]
    alternatives: list[Alternative]


def operation_of(catalogue: Catalogue, name: str) -> Operation:
    operation = catalogue.operations[name]
    return Operation(
        name=operation.name,
        title=operation.title,
        method=operation.method,
        path=operation.path,
        effect=operation.effect,
        data_class=operation.data_class,
        weight=weigh_operation(operation),
        unlocked_by=list(catalogue.unlockers(name)),
    )


def resource_of(catalogue: Catalogue) -> Resource:
    listed = [
        Permission(
            name=name,
            title=permission.title,
            kinds=sorted(permission.kinds),
            unlocks=sorted(permission.unlocks),
            implies=sorted(permission.implies),
            opens=sorted(catalogue.opened_by(name)),
            weight=weigh(catalogue, catalogue.opened_by(name)),
        )
        for name, permission in catalogue.permissions.items()
    ]
    return Resource(
        name=catalogue.name,
        title=catalogue.title,
        identifier=catalogue.identifier,
        operations=[operation_of(catalogue, name) for name in sorted(catalogue.operations)],
        permissions=sorted(listed, key=lambda one: (one.weight, one.name)),
    )


def proposal_of(
    catalogue: Catalogue, kind: AccessKind, needed: Iterable[str], held: Iterable[str], found: permissions.Proposal
) -> Proposal:
    return Proposal(
        resource=catalogue.name,
        kind=kind,
        needed=list(needed),
        held=list(held),
        permissions=list(found.permissions),
        beyond=[operation_of(catalogue, name) for name in sorted(found.beyond)],
        beyond_weight=found.beyond_weight,
        exact=found.exact,
        bound=found.bound,
        unreachable=sorted(found.unreachable),
        alternatives=[
            Alternative(
                permission=one.permission,
                title=catalogue.permissions[one.permission].title,
                covers=sorted(one.covers),
                beyond=sorted(one.beyond),
                beyond_weight=one.beyond_weight,
            )
            for one in found.alternatives
        ],
    )
