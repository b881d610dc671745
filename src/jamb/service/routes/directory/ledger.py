"""The ledger."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.directory import ledger
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_number
from jamb.service.http.routing import api_router
from jamb.wire.base.shapes import Page
from jamb.wire.directory import ledger as wire

router = api_router("/api/v1/directories/{directory}/ledger", tags=["ledger"])


@router.get("")
def read_ledger(
    act: Annotated[Act, may("ledger.read")],
    request: Request,
    response: Response,
    client: Annotated[str | None, Query(max_length=80, description="Only changes of this client")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.LedgerEntry]:
    """Changes, newest first."""
    found = ledger.read_ledger(act, client_id=client, before=unpack_number(cursor), limit=limit)
    following = onward(request, response, found.next)
    return Page[wire.LedgerEntry](items=[wire.entry_of(entry, digest) for entry, digest in found.items], next=following)


@router.get("/verification")
def verify_ledger(act: Annotated[Act, may("ledger.verify")]) -> wire.Verification:
    """Walk the whole chain and say whether it is sound."""
    found = ledger.verify_ledger(act)
    return wire.Verification(
        at=found.at,
        sound=found.fault is None,
        entries=found.entries,
        head=found.head.hex(),
        first_fault=found.fault.sequence if found.fault else None,
        what=found.fault.what if found.fault else "",
    )
