"""Resources: catalogues, their publication, and the collections of their objects."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.entry.access import admit_also
from jamb.actions.resources import resources
from jamb.core.permissions import AccessKind
from jamb.core.reach import Collection, CollectionTree
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_text
from jamb.service.http.routing import api_router
from jamb.service.http.versions import tagged
from jamb.wire.base.shapes import Page
from jamb.wire.resources import reach as reach_wire
from jamb.wire.resources import resources as wire

router = api_router("/api/v1/directories/{directory}/resources", tags=["resources"])


@router.get("")
def list_resources(
    act: Annotated[Act, may("resources.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name, title or identifier")] = "",
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.ResourceLine]:
    """The resources of the directory, by name."""
    found, after, total = resources.list_resources(act, q, unpack_text(cursor), limit)
    lines = [
        wire.ResourceLine(
            name=one.name,
            title=one.title,
            identifier=one.identifier,
            operations=len(one.catalogue.operations),
            permissions=len(one.catalogue.permissions),
            object_name=one.catalogue.object_name,
            collections=one.collections,
        )
        for one in found
    ]
    return Page[wire.ResourceLine](items=lines, next=onward(request, response, after), total=total)


@router.post("/draft")
def draft_resource(_act: Annotated[Act, may("resources.draft")], sent: wire.OpenApiSent) -> wire.DraftedOperations:
    """Operations and permissions as an OpenAPI 3.1 document has them, to be corrected and published. Nothing is saved.

    Permissions are the scopes that its operations require; where it names none, one for each effect is proposed.
    """
    operations, permissions = resources.draft(sent.document, sent.data_class)
    return wire.DraftedOperations(
        operations=[
            wire.OperationSent(
                name=one.name,
                title=one.title,
                method=one.method,
                path=one.path,
                effect=one.effect,
                data_class=one.data_class,
            )
            for one in operations
        ],
        permissions=[
            wire.PermissionSent(name=one.name, title=one.title, kinds=sorted(one.kinds), unlocks=sorted(one.unlocks))
            for one in permissions
        ],
    )


@router.get("/{name}")
def read_resource(act: Annotated[Act, may("resources.read")], name: str, response: Response) -> wire.Resource:
    """One catalogue: operations, permissions, what unlocks what."""
    found = resources.read_resource(act, name)
    uncounted = found.uncounted_since, found.uncounted_until
    answer = wire.resource_of(
        found.catalogue, found.questions, found.terms, found.guard_client_id, found.address, uncounted
    )
    return tagged(response, answer)


@router.put("/{name}")
def publish_resource(
    name: str,
    sent: wire.ResourceSent,
    act: Annotated[Act, may("resources.publish", edits=True)],
) -> wire.ResourceChange:
    """Publish a resource, or put this in place of what it is. Look at the preview first."""
    change = resources.publish(
        act, sent.catalogue(name), guard_client_id=sent.guard_client_id, questions=sent.questions, terms=sent.terms
    )
    return change_answer(change)


@router.post("/{name}/preview")
def preview_resource(
    act: Annotated[Act, may("resources.preview")],
    name: str,
    sent: wire.ResourceSent,
) -> wire.ResourceChange:
    """What publishing this would change, and for which clients."""
    return change_answer(resources.preview(act, sent.catalogue(name)))


@router.get("/{name}/proposal")
def propose_permissions(
    act: Annotated[Act, may("permissions.propose")],
    name: str,
    operation: Annotated[list[str], Query(min_length=1, max_length=500, description="What must be possible")],
    kind: AccessKind = AccessKind.APPLICATION,
    client: Annotated[str | None, Query(max_length=80, description="Beside what this client asks or holds")] = None,
) -> wire.Proposal:
    """The smallest permissions that open these operations, and what each alternative would open beyond them.

    What a client asks or holds is told to whoever may read that client.
    """
    if client is not None:
        admit_also(act, "clients.read", client)
    found = resources.propose(act, name, operation, kind, client)
    return wire.proposal_of(found.catalogue, kind, found.needed, found.held, found.proposal)


@router.put("/{name}/address")
def set_resource_address(
    name: str,
    sent: wire.ResourceAddress,
    act: Annotated[Act, may("resources.set-address", edits=True)],
) -> wire.ResourceAddress:
    """Say where a resource answers, so that clients can be probed there."""
    url = resources.set_address(act, name, sent.url)
    return wire.ResourceAddress(url=url)


@router.get("/{name}/collections")
def read_collections(
    act: Annotated[Act, may("collections.read")], name: str, response: Response
) -> reach_wire.Collections:
    """The collections of a resource's objects, as a tree of paths."""
    found, tree = resources.read_collections(act, name)
    return tagged(response, reach_wire.collections_answer(found.name, found.catalogue.object_name, tree))


@router.put("/{name}/collections")
def replace_collections(
    name: str,
    sent: reach_wire.CollectionsSent,
    act: Annotated[Act, may("collections.replace", edits=True)],
) -> reach_wire.Collections:
    """Put these collections in place of those a resource has. Guards act on it within seconds."""
    tree = CollectionTree.of(
        Collection(one.path, " ".join(one.title.split()) or one.path, frozenset(one.objects), one.rule.strip())
        for one in sent.collections
    )
    waits = resources.replace_collections(act, name, tree)
    found, tree = resources.read_collections(act, name)
    return reach_wire.collections_answer(found.name, found.catalogue.object_name, tree, waits)


def change_answer(change: resources.ResourceChange) -> wire.ResourceChange:
    return wire.ResourceChange(
        name=change.after.name,
        new=change.before is None,
        operations_added=sorted(change.operations_added),
        operations_gone=sorted(change.operations_gone),
        operations_changed=sorted(change.operations_changed),
        permissions_added=sorted(change.permissions_added),
        permissions_gone=sorted(change.permissions_gone),
        permissions_changed=sorted(change.permissions_changed),
        affected=[
            wire.AffectedClient(
                client_id=one.client_id,
                client_name=one.client_name,
                kind=one.kind,
                newly=sorted(one.comparison.newly),
                wider=sorted(one.comparison.wider),
                narrower=sorted(one.comparison.narrower),
                no_longer=sorted(one.comparison.no_longer),
                added_weight=one.comparison.added_weight,
            )
            for one in change.affected
        ],
        untouched=change.untouched,
        blocking=[wire.Blocking(permission=name, held_by=list(who)) for name, who in sorted(change.blocking.items())],
        wider=list(change.wider),
        waits=change.waits,
    )
