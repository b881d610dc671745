"""Resources and their catalogues."""

from __future__ import annotations

from fastapi import APIRouter, Depends

from jamb.actions import resources
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
