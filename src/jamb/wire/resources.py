"""Resources: operations, permissions, what unlocks what."""

from __future__ import annotations

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
    permissions = [
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
        permissions=sorted(permissions, key=lambda one: (one.weight, one.name)),
    )
