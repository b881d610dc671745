"""Sign-in links: make one; and, without a sign-in, choose a password by one."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Depends, Request
from fastapi.concurrency import run_in_threadpool

from jamb.actions.base.act import Act
from jamb.actions.directory import sign_in_links
from jamb.actions.entry.tries import guessing
from jamb.core.errors import Unsuited
from jamb.core.tries import LINK_ADDRESS, Counted
from jamb.service.callers import Now, TheRuntime, may
from jamb.service.http.routing import api_router
from jamb.service.http.senders import address_of
from jamb.service.routes.entry.session import same_origin
from jamb.wire.directory import sign_in_links as wire

router = api_router("/api/v1", tags=["people"])


@router.post("/directories/{directory}/people/{person}/sign-in-links", status_code=201)
def make_sign_in_link(
    person: str, sent: wire.NewSignInLink, act: Annotated[Act, may("people.link")], runtime: TheRuntime
) -> wire.SignInLink:
    """Make a one-time link by which a person chooses a password; earlier links of theirs open nothing any more."""
    if sent.mailed and runtime.settings.smtp_url is None:
        raise Unsuited.field("mailed", True, "false: this service has no mail server", "Pass the link on yourself.")
    return sign_in_links.make_link(act, person, sent.hours, mailed=sent.mailed)


@router.post("/sign-in-links/{link}/look")
def look_at_sign_in_link(
    link: UUID, sent: wire.SignInLinkKey, request: Request, runtime: TheRuntime, now: Now
) -> wire.WaitingSignInLink:
    """Whom a link is for, for whoever has it. Nothing is used by looking: what fetches links ahead does no harm."""
    with guessing(runtime.backend, Counted(LINK_ADDRESS, (address_of(request),)), now):
        presented = sign_in_links.Presented(link, sent.key.get_secret_value(), address_of(request))
        return sign_in_links.look_at_link(runtime.backend, presented, now)


@router.post("/sign-in-links/{link}/password", status_code=204, dependencies=[Depends(same_origin)])
async def choose_password(
    link: UUID, sent: wire.ChosenPassword, request: Request, runtime: TheRuntime, now: Now
) -> None:
    """Choose the password of the person that the link is for, once. Every sign-in of theirs from before ends."""
    presented = sign_in_links.Presented(link, sent.key.get_secret_value(), address_of(request))

    def choose() -> None:
        with guessing(runtime.backend, Counted(LINK_ADDRESS, (presented.address,)), now):
            sign_in_links.choose_password(runtime.backend, presented, sent.password.get_secret_value(), now)

    async with runtime.turns.turn(presented.address, known=False):
        await run_in_threadpool(choose)
