"""The stand-in Dispatches API: mailboxes of the port's desks behind a real guard. Its collections are the desks."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Depends, HTTPException, Query, Request, Response
from pydantic import BaseModel, Field

from jamb.demo.paging import page_of
from jamb.guard import Guard, TokenClaims

DESKS: dict[str, tuple[str, ...]] = {
    "duty": (),
    "duty/harbour-master": ("duty.master", "duty.deputy"),
    "duty/pilots": ("pilots.watch", "pilots.roster"),
    "duty/vts": ("vts.north", "vts.south", "vts.log"),
    "office": ("reception", "lost-property"),
    "office/invoices": ("invoices", "dunning"),
    "office/claims": ("claims", "insurers"),
    "board": ("board.chair", "board.papers", "board.audit"),
}
MESSAGES: dict[str, list[dict[str, str]]] = {
    mailbox: [
        {"from": "vts.log", "subject": "Watch handed over", "text": "Quiet night, wind west four."},
        {"from": "reception", "subject": "Parcel", "text": "A parcel waits at the gate."},
    ]
    for mailboxes in DESKS.values()
    for mailbox in mailboxes
}


class NewMessage(BaseModel):
    subject: Annotated[str, Field(min_length=1, max_length=120)]
    text: Annotated[str, Field(max_length=2000)] = ""


def dispatches_router(guard: Guard) -> APIRouter:
    router = APIRouter()
    sees = Depends(guard.requires("dispatches.read", operation="mailboxes.list"))

    def needs(permission: str, operation: str) -> Any:
        return Depends(guard.requires(permission, operation=operation, object_in="mailbox"))

    @router.get("/mailboxes")
    def list_mailboxes(
        request: Request,
        response: Response,
        claims: TokenClaims = sees,
        after: str = "",
        limit: Annotated[int, Query(ge=1, le=50)] = 20,
    ) -> dict[str, Any]:
        visible = [name for name in MESSAGES if claims.reaches("dispatches.read", name)]
        shown = page_of(visible, after, limit, request, response)
        return {"items": [{"mailbox": name, "messages": len(MESSAGES[name])} for name in shown], "total": len(visible)}

    @router.get("/mailboxes/{mailbox}/messages", dependencies=[needs("dispatches.read", "messages.read")])
    def read_messages(mailbox: str) -> dict[str, Any]:
        return {"items": _found(mailbox), "total": len(_found(mailbox))}

    @router.post(
        "/mailboxes/{mailbox}/messages", status_code=201, dependencies=[needs("dispatches.send", "message.send")]
    )
    def send_message(mailbox: str, sent: NewMessage) -> dict[str, str]:
        message = {"from": "a client", "subject": sent.subject, "text": sent.text}
        _found(mailbox).append(message)
        # Kept short, whatever one tries out: this is a stand-in.
        del _found(mailbox)[:-100]
        return message

    @router.delete("/mailboxes/{mailbox}", status_code=204, dependencies=[needs("dispatches.manage", "mailbox.remove")])
    def remove_mailbox(mailbox: str) -> None:
        _found(mailbox)
        del MESSAGES[mailbox]

    return router


def _found(mailbox: str) -> list[dict[str, str]]:
    if mailbox not in MESSAGES:
        raise HTTPException(404, f"there is no mailbox {mailbox}")
    return MESSAGES[mailbox]
