"""Credentials, connection sheets and token requests of a client."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Depends, Query, Request, Response

from jamb.actions import attempts, credentials
from jamb.actions.access import Admitted
from jamb.service.callers import Now, TheOffice, may
from jamb.service.paging import DEFAULT_LIMIT, Cursor, Limit, link_next, pack, unpack_number
from jamb.wire import credentials as wire
from jamb.wire.base import Page

router = APIRouter(prefix="/api/v1/directories/{directory}/clients/{client}", tags=["credentials"])


@router.post("/secrets", status_code=201)
def issue_secret(
    client: str,
    sent: wire.NewSecret,
    admitted: Annotated[Admitted, Depends(may("credentials.issue"))],
    office: TheOffice,
    now: Now,
) -> wire.IssuedSecret:
    """Issue a client secret. This answer is the only one that ever has it."""
    issued = credentials.issue_secret(office.premises, admitted.directory, client, sent.days, admitted.actor, now)
    secret = issued.sheets[0].secret
    assert secret is not None
    return wire.IssuedSecret(
        credential=wire.Credential.model_validate(issued.credential),
        secret=secret,
        sheets=[wire.sheet_of(one) for one in issued.sheets],
    )


@router.get("/sheet", dependencies=[Depends(may("sheet.read"))])
def read_sheet(directory: str, client: str, office: TheOffice) -> list[wire.Sheet]:
    """The connection sheet of each resource, without a secret."""
    return [wire.sheet_of(one) for one in credentials.connection_sheets(office.premises, directory, client)]


@router.post("/credentials/{credential}/withdrawal")
def withdraw(
    client: str,
    credential: UUID,
    sent: wire.Withdrawal,
    admitted: Annotated[Admitted, Depends(may("credentials.withdraw"))],
    office: TheOffice,
    now: Now,
) -> wire.Credential:
    """End a credential now, for good."""
    ended = credentials.withdraw(
        office.premises, admitted.directory, client, credential, sent.reason, admitted.actor, now
    )
    return wire.Credential.model_validate(ended)


@router.get("/attempts", dependencies=[Depends(may("attempts.list"))])
def list_attempts(
    directory: str,
    client: str,
    request: Request,
    response: Response,
    office: TheOffice,
    failed: Annotated[bool, Query(description="Only those that failed")] = False,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Attempt]:
    """Token requests of the client, newest first."""
    found = attempts.list_attempts(
        office.premises, directory, client, failed_only=failed, before=unpack_number(cursor), limit=limit
    )
    following = pack(found.next) if found.next is not None else None
    link_next(request, response, following)
    return Page[wire.Attempt](items=[wire.Attempt.model_validate(one) for one in found.items], next=following)
