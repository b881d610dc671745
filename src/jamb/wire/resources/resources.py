"""Resources: operations, permissions, what unlocks what."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime
from typing import Annotated, Any

from pydantic import Field

from jamb.core import permissions
from jamb.core.permissions import AccessKind, Catalogue, ConsentBy, DataClass, Effect, weigh, weigh_operation
from jamb.wire.base.shapes import Answered, Foreign, Moment, Sent, SeveralLines, Versioned
from jamb.wire.base.text import Identifier, MaybeWebAddress, Method, ObjectName, PathTemplate, PermissionName


class ResourceLine(Answered):
    name: str
    title: str
    identifier: str
    operations: int
    permissions: int
    object_name: str
    collections: int


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
    concerns_object: bool


class Permission(Answered):
    """`opens` is everything possible with it: what it unlocks and what the permissions it implies unlock."""

    name: str
    title: str
    kinds: list[AccessKind]
    unlocks: list[str]
    implies: list[str]
    opens: list[str]
    weight: int
    consent_by: ConsentBy
    text: str
    person_text: str


class Resource(Versioned):
    """`object_name`: the path parameter by which operations name the object that reach is about; may be empty.

    `questions` and `terms` are for whoever requests consent to it. `address`: where it answers, for probes.
    Between `uncounted_since` and `uncounted_until` its guard could not count all calls.
    """

    edited = frozenset(
        ["title", "object_name", "questions", "terms", "guard_client_id", "address", "operations", "permissions"]
    )

    name: str
    title: str
    identifier: str
    object_name: str
    questions: list[str]
    terms: str
    guard_client_id: str | None
    address: str
    uncounted_since: Moment | None
    uncounted_until: Moment | None
    operations: list[Operation]
    permissions: list[Permission]


class ResourceAddress(Sent):
    """Where a resource answers, for probes: its base URL. Empty: nowhere that the service may call."""

    url: MaybeWebAddress


class OperationSent(Sent):
    name: PermissionName
    title: Annotated[str, Field(min_length=1, max_length=200)]
    method: Method = ""
    path: PathTemplate = ""
    effect: Effect
    data_class: DataClass


class PermissionSent(Sent):
    name: PermissionName
    title: Annotated[str, Field(min_length=1, max_length=200)]
    kinds: Annotated[list[AccessKind], Field(min_length=1, max_length=2)]
    unlocks: Annotated[list[PermissionName], Field(max_length=2000)] = Field(default_factory=list)
    implies: Annotated[list[PermissionName], Field(max_length=500)] = Field(default_factory=list)
    consent_by: ConsentBy = ConsentBy.ADMINISTRATOR
    text: Annotated[str, SeveralLines()] = ""
    person_text: Annotated[str, SeveralLines()] = ""


class ResourceSent(Sent):
    """A resource as it is published: everything it has; what is left out of a changed one goes."""

    title: Annotated[str, Field(min_length=1, max_length=200)]
    identifier: Identifier
    object_name: ObjectName = ""
    questions: Annotated[list[Annotated[str, Field(max_length=300)]], Field(max_length=20)] = Field(
        default_factory=list
    )
    terms: Annotated[str, SeveralLines()] = ""
    guard_client_id: Annotated[str, Field(max_length=80)] | None = None
    operations: Annotated[list[OperationSent], Field(min_length=1, max_length=5000)]
    permissions: Annotated[list[PermissionSent], Field(min_length=1, max_length=2000)]

    def catalogue(self, name: str) -> Catalogue:
        """Return the catalogue. Raises `BadInput` naming every fault."""
        operations = [permissions.Operation(**one.model_dump()) for one in self.operations]
        made = [
            permissions.Permission(
                one.name,
                one.title,
                frozenset(one.kinds),
                frozenset(one.unlocks),
                frozenset(one.implies),
                one.consent_by,
                one.text,
                one.person_text,
            )
            for one in self.permissions
        ]
        return Catalogue.of(name, self.title, self.identifier, operations, made, self.object_name)


class OpenApiSent(Sent):
    """An OpenAPI 3.1 document; `data_class` is given to all its operations, to be corrected."""

    document: Annotated[dict[str, Any], Foreign()]
    data_class: DataClass = DataClass.INTERNAL


class DraftedOperations(Answered):
    """To be corrected and published. Effects are guessed from the methods; permissions are the document's scopes."""

    operations: list[OperationSent]
    permissions: list[PermissionSent]


class AffectedClient(Answered):
    """Operations by name. `wider`: they weigh more, or count for more objects. `narrower`: for fewer objects."""

    client_id: str
    client_name: str
    kind: AccessKind
    newly: list[str]
    wider: list[str]
    narrower: list[str]
    no_longer: list[str]
    added_weight: float


class Blocking(Answered):
    permission: str
    held_by: list[str]


class ResourceChange(Answered):
    """What publishing would do. `blocking`: permissions that cannot go while somebody stands on them.

    `wider`: what of it lets somebody do more than was consented to: it waits for an approver; all else acts at once.
    `waits`: that it does, and who can agree, in words; empty: nothing waits.
    """

    name: str
    new: bool
    operations_added: list[str]
    operations_gone: list[str]
    operations_changed: list[str]
    permissions_added: list[str]
    permissions_gone: list[str]
    permissions_changed: list[str]
    affected: list[AffectedClient]
    untouched: int
    blocking: list[Blocking]
    wider: list[str] = Field(default_factory=list)
    waits: str = ""


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
        concerns_object=catalogue.concerns_object(name),
    )


def resource_of(
    catalogue: Catalogue,
    questions: Iterable[str],
    terms: str,
    guard_client_id: str | None,
    address: str,
    uncounted: tuple[datetime | None, datetime | None] = (None, None),
) -> Resource:
    listed = [
        Permission(
            name=name,
            title=permission.title,
            kinds=sorted(permission.kinds),
            unlocks=sorted(permission.unlocks),
            implies=sorted(permission.implies),
            opens=sorted(catalogue.opened_by(name)),
            weight=weigh(catalogue, catalogue.opened_by(name)),
            consent_by=permission.consent_by,
            text=permission.text,
            person_text=permission.person_text,
        )
        for name, permission in catalogue.permissions.items()
    ]
    return Resource(
        name=catalogue.name,
        title=catalogue.title,
        identifier=catalogue.identifier,
        object_name=catalogue.object_name,
        questions=list(questions),
        terms=terms,
        guard_client_id=guard_client_id,
        address=address,
        uncounted_since=uncounted[0],
        uncounted_until=uncounted[1],
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
