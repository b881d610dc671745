"""The consents of a whole directory: what is granted to whom, and where it counts."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.consent import consent
from jamb.core.permissions import AccessKind
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_position
from jamb.service.http.routing import api_router
from jamb.store.consent.grants import Wanted
from jamb.wire.base.shapes import Moment, Page
from jamb.wire.base.text import ShortName
from jamb.wire.consent import consent as wire

router = api_router("/api/v1/directories/{directory}", tags=["consent"])


@router.get("/consents")
def list_all(
    act: Annotated[Act, may("consents.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of client, permission or person")] = "",
    resource: Annotated[ShortName | None, Query(description="Short name of a resource")] = None,
    permission: Annotated[wire.Name | None, Query(description="Whole name of a permission")] = None,
    kind: Annotated[AccessKind | None, Query(description="As itself, or for people")] = None,
    bounded: Annotated[bool | None, Query(description="Only those that count for some objects, or for all")] = None,
    by_person: Annotated[bool | None, Query(description="Only those that people gave themselves, or others")] = None,
    expires_before: Annotated[Moment | None, Query(description="Only those that expire before this")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.DirectoryGrant]:
    """The consents in force of all clients, those granted last first; `total` is told up to 10,000."""
    wanted = Wanted(q, resource or "", permission or "", kind.value if kind else "", bounded, by_person, expires_before)
    items, after, total = consent.list_all(act, wanted, after=unpack_position(cursor), limit=limit)
    following = onward(request, response, after)
    return Page[wire.DirectoryGrant](items=items, next=following, total=total)
