"""Handover: links, made, listed, taken back, and opened by whoever has one; and credentials sealed to a key."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Request

from jamb.actions.base.act import Act
from jamb.actions.credentials import adding, handovers, recipients
from jamb.actions.credentials.adding import Added, Place
from jamb.actions.credentials.delivering import Delivered, to_owners
from jamb.actions.credentials.shown_once import carried
from jamb.actions.entry.tries import guessing
from jamb.core.credentials.handover import Deliver
from jamb.core.tries import LINK_ADDRESS, Counted
from jamb.service.callers import Now, TheRuntime, may
from jamb.service.http.routing import api_router
from jamb.service.http.senders import address_of, agent_of
from jamb.service.routes.credentials.additions import addition_of
from jamb.wire.credentials import handovers as wire

router = api_router("/api/v1", tags=["handovers"])
_OF_CLIENT = "/directories/{directory}/clients/{client}/handovers"


def terms_of(sent: wire.HandoverWish) -> handovers.HandoverTerms:
    return handovers.HandoverTerms(sent.hours, sent.passphrase.get_secret_value(), sent.note)


def _for_owners(at: Place, added: Added) -> str:
    return f"“{at.client.name}”: a new credential, {added.credential.hint}. Whoever of you opens the link has it"


@router.get(_OF_CLIENT)
def list_handovers(act: Annotated[Act, may("handovers.list")], client: str) -> list[wire.Handover]:
    """The client's handover links, newest first: whether they were opened, when and from where."""
    return handovers.list_handovers(act, client)


@router.post(_OF_CLIENT, status_code=201)
def make_handover(
    client: str,
    sent: wire.NewHandover,
    act: Annotated[Act, may("handovers.make")],
    runtime: TheRuntime,
) -> wire.MadeHandover:
    """Make a credential that only whoever opens the link sees. This answer is the only one with the link; delivered to
    the owners, it travels in their mails alone."""
    made: list[handovers.Sealed] = []
    told = Delivered()
    if sent.deliver is Deliver.OWNERS:
        delivery = to_owners(runtime.backend, terms_of(sent), carried, _for_owners, told)
    else:
        delivery = adding.Delivery(handovers.seal_into(runtime.backend, terms_of(sent), carried, made))
    added = adding.add_credential(
        act, client, addition_of(sent.credential, sent.days), sent.label, instead_of=sent.instead_of, delivery=delivery
    )
    sealed = told.handover or made[0]
    return wire.MadeHandover(
        handover=sealed.view,
        link="" if told.handover is not None else sealed.link,
        delivered_to=told.names,
        credential=added.credential,
        replaced=added.replaced if added.replaced is not None else None,
    )


@router.get("/directories/{directory}/recipient-key")
def read_recipient_key(act: Annotated[Act, may("recipient-key.read")]) -> wire.OwnRecipientKey:
    """The public key to which credentials for the caller are sealed."""
    return wire.OwnRecipientKey(key=recipients.own_key(act))


@router.put("/directories/{directory}/recipient-key")
def set_recipient_key(
    sent: wire.RecipientKey,
    act: Annotated[Act, may("recipient-key.set")],
) -> wire.OwnRecipientKey:
    """Register that key, or take it away. Only the person themself can: whoever sets it reads what is sealed to it."""
    return wire.OwnRecipientKey(key=recipients.set_own_key(act, sent.key))


@router.get("/directories/{directory}/clients/{client}/recipients")
def list_recipients(act: Annotated[Act, may("recipients.list")], client: str) -> list[wire.Recipient]:
    """To whom a credential of the client can be sealed: owners and webhooks that have registered a key."""
    return recipients.list_recipients(act, client)


@router.post("/directories/{directory}/clients/{client}/sealings", status_code=201)
def seal_credential(
    client: str,
    sent: wire.NewSealing,
    act: Annotated[Act, may("handovers.seal")],
) -> wire.SealedCredential:
    """Make a credential that only the recipient can read (RFC 7516). A webhook is sent it by itself."""
    made: list[recipients.SealedTo] = []
    added = adding.add_credential(
        act,
        client,
        addition_of(sent.credential, sent.days),
        sent.label,
        instead_of=sent.instead_of,
        delivery=recipients.seal_for(sent.recipient, carried, made),
    )
    return wire.SealedCredential(
        credential=added.credential,
        recipient=made[0].recipient,
        sealed=made[0].text,
        replaced=added.replaced if added.replaced is not None else None,
    )


@router.post(f"{_OF_CLIENT}/{{handover}}/withdrawal")
def withdraw_handover(
    client: str,
    handover: UUID,
    act: Annotated[Act, may("handovers.withdraw")],
) -> wire.Handover:
    """Take a link back before it is opened. Its credential stands."""
    return handovers.withdraw_handover(act, client, handover)


@router.post("/handovers/{handover}/look")
def look_at_handover(
    handover: UUID, sent: wire.HandoverKey, request: Request, runtime: TheRuntime, now: Now
) -> wire.WaitingHandover:
    """What a link is about, for whoever has it. Nothing is opened by looking: what fetches links ahead does no harm."""
    with guessing(runtime.backend, Counted(LINK_ADDRESS, (address_of(request),)), now):
        return handovers.look_at_handover(runtime.backend, handover, sent.key.get_secret_value(), now)


@router.post("/handovers/{handover}/opening")
def open_handover(
    handover: UUID, sent: wire.HandoverOpening, request: Request, runtime: TheRuntime, now: Now
) -> wire.HandedOver:
    """Show what a link carries, once and never again. A later try is told to its sender."""
    who = handovers.Opening(address_of(request), agent_of(request))
    with guessing(runtime.backend, Counted(LINK_ADDRESS, (who.address,)), now):
        plain = handovers.open_link(
            runtime.backend, handover, sent.key.get_secret_value(), sent.passphrase.get_secret_value(), who, now
        )
    return wire.HandedOver.model_validate_json(plain)
