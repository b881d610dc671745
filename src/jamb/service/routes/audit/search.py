"""Find anything."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query

from jamb.actions.audit import search as actions
from jamb.actions.base.act import Act
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.wire.audit.search import Found

router = api_router("/api/v1/directories/{directory}", tags=["search"])


@router.get("/search")
def search(
    act: Annotated[Act, may("search", heavy=True)],
    q: Annotated[str, Query(min_length=2, max_length=100, description="Part of a name, title, login, id or hint")],
) -> list[Found]:
    """Clients, people, groups, roles, resources, permissions, operations and credentials: a few of each that fit."""
    return actions.search(act, q)
