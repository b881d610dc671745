"""Catalogues on the token path: prepared once per revision, read through a thread when not."""

from __future__ import annotations

from uuid import UUID

from fastapi.concurrency import run_in_threadpool
from sqlmodel import Session

from jamb.core.permissions import Catalogue
from jamb.service.runtime import Runtime
from jamb.store.resources import resources


async def catalogue_of(runtime: Runtime, resource_id: UUID, revision: int) -> Catalogue:
    found = resources.prepared(resource_id, revision)
    return found if found is not None else await run_in_threadpool(_prepare, runtime, resource_id)


def _prepare(runtime: Runtime, resource_id: UUID) -> Catalogue:
    with Session(runtime.backend.engine) as session:
        row = session.get_one(resources.ResourceRow, resource_id)
        return resources.catalogues(session, [row])[resource_id]
