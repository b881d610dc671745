"""Resources and their catalogues."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Query

from jamb.actions import resources
from jamb.core.permissions import AccessKind
from jamb.service.callers import TheOffice, may
from jamb.wire import resources as wire

router = APIRouter(prefix="/api/v1/directories/{directory}/resources", tags=["resources"])


@router.get("", dependencies=[Depends(may("resources.list"))])
def list_resources(directory: str, office: TheOffice) -> list[wire.ResourceLine]:
    """The resources of the directory, by name."""
    return [
        wire.ResourceLine(
            name=one.name,
            title=one.title,
            identifier=one.identifier,
            operations=len(one.catalogue.operations),
            permissions=len(one.catalogue.permissions),
        )
        for one in resources.list_resources(office.premises, directory)
    ]


@router.get("/{name}", dependencies=[Depends(may("resources.read"))])
def read_resource(directory: str, name: str, office: TheOffice) -> wire.Resource:
    """One catalogue: operations, permissions, what unlocks what."""
    return wire.resource_of(resources.read_resource(office.premises, directory, name).catalogue)


@router.get("/{name}/proposal", dependencies=[Depends(may("permissions.propose"))])
def propose_permissions(
    directory: str,
    name: str,
    operation: Annotated[list[str], Query(min_length=1, max_length=500, description="What must be possible")],
    office: TheOffice,
    kind: AccessKind = AccessKind.APPLICATION,
    client: Annotated[str | None, Query(max_length=80, description="Beside what this client asks or holds")] = None,
) -> wire.Proposal:
    """The smallest permissions that open these operations, and what each alternative would open beyond them."""
    found = resources.propose(office.premises, directory, name, operation, kind, client)
    return wire.proposal_of(found.catalogue, kind, found.needed, found.held, found.proposal)
