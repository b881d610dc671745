"""What guards report, and what they must know."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request

from jamb.actions.base.act import Act
from jamb.actions.resources import revocations, usage
from jamb.core.ladder import Use
from jamb.core.permissions import Catalogue
from jamb.core.reach.details import document
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.service.running.waiting import WATCHED, Watched
from jamb.store.resources.usage import Refused
from jamb.wire.resources import usage as wire

router = api_router("/api/v1/directories/{directory}", tags=["usage"])


@router.post("/usage")
def report_usage(sent: wire.UsageReport, act: Annotated[Act, may("usage.report")]) -> wire.UsageCounted:
    """Count a batch of used operations, once."""
    uses = [
        (one.client_id, Use(one.operation, one.kind, one.last_at.date(), one.calls, one.last_at)) for one in sent.uses
    ]
    refusals = [
        (
            one.client_id,
            Refused(one.operation, one.kind, one.reason, one.object, one.last_at.date(), one.calls, one.last_at),
        )
        for one in sent.refusals
    ]
    details = [usage.Details(one.objects, one.people) for one in sent.uses]
    uncounted = [(one.since, one.until) for one in sent.uncounted]
    counted = usage.report(act, sent.resource, sent.batch, uses, refusals, details, uncounted)
    return wire.UsageCounted(counted=counted)


@router.get("/revocations")
def read_revocations(
    act: Annotated[Act, may("revocations.read")],
    request: Request,
    resource: Annotated[str, Query(min_length=1, max_length=300)],
    known_revision: Annotated[
        int | None, Query(description="Of the catalogue; its operations come if it is another")
    ] = None,
    known_collections: Annotated[
        int | None, Query(description="The collections_revision that is known; they come if it is another")
    ] = None,
) -> wire.Revocations:
    """What the guard of a resource must know beside the keys: what was taken away lately, and its collections.

    Where it names the tag of what it knows and prefers to wait (RFC 7240), the answer comes when there is something
    new.
    """
    found = revocations.read_revocations(act, resource)
    request.scope[WATCHED] = Watched(found.resource_id, found.mark)
    tree = found.tree if known_collections != found.collections_revision else None
    changed = known_revision is not None and known_revision != found.revision
    return wire.Revocations(
        resource=found.resource,
        object_name=found.object_name,
        revocations=[
            wire.Revocation(
                client_id=one.client_id,
                kind=one.kind,
                subject=one.person_id,
                until=int(one.until.timestamp()),
                permissions=list(one.permissions) if one.permissions is not None else None,
                reach=[document(reach) for reach in one.reach],
            )
            for one in found.revocations
        ],
        collections={path: sorted(tree.members(path)) for path in tree.collections} if tree is not None else None,
        collections_revision=found.collections_revision,
        revision=found.revision,
        operations=_operations(found.catalogue) if changed else None,
    )


def _operations(catalogue: Catalogue) -> list[wire.GuardedOperation]:
    """Return the operations with the permissions that open each themselves: a token carries those that others imply."""
    return [
        wire.GuardedOperation(
            name=operation.name,
            method=operation.method,
            path=operation.path,
            any_of=sorted(
                permission.name for permission in catalogue.permissions.values() if operation.name in permission.unlocks
            ),
            object_in=catalogue.object_name if catalogue.concerns_object(operation.name) else "",
        )
        for operation in catalogue.operations.values()
    ]
