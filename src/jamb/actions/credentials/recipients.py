"""Recipients: public keys that people and webhooks have registered, and new credentials sealed to them (RFC 7516)."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import client_subject
from jamb.actions.credentials.adding import Added, Delivery, Place
from jamb.core.credentials.public_keys import Jwk
from jamb.core.credentials.recipients import recipient_key
from jamb.core.directory.directories import Directory
from jamb.core.errors import Unsuited
from jamb.store.clients.clients import owners_of
from jamb.store.credentials.recipients import seal_to
from jamb.store.directory.people import PersonRow, people_by_id
from jamb.store.notices.notices import PushRow, WebhookRow, webhooks_of
from jamb.wire.credentials.handovers import Recipient

Words = Callable[[str, str, Added], bytes]
EVENT = "credential-sealed"


@dataclass(frozen=True, slots=True)
class SealedTo:
    """`text`: a JWE in its compact form, for the recipient alone; empty where a webhook is sent it."""

    recipient: Recipient
    text: str


def own_key(act: Act) -> Jwk | None:
    """Return the key that the caller has registered."""
    with act.read() as session:
        person = session.get(PersonRow, _person_id(act))
        return person.recipient_key if person is not None else None


def set_own_key(act: Act, text: str) -> Jwk | None:
    """Register the public key to which credentials for the caller are sealed; an empty text takes it away.

    Only the person themself can: whoever sets the key reads what is sealed to it.

    Raises:
        BadInput: no key that can be sealed to; or the caller is no person.
    """
    key = recipient_key(text) if text.strip() else None
    with act.change() as unit:
        person = unit.session.get_one(PersonRow, _person_id(act), with_for_update=True)
        before = person.recipient_key
        if before == key:
            return key
        person.recipient_key = key
        unit.session.add(person)
        subject = {"kind": "person", "id": str(person.id), "name": person.name}
        unit.enter(
            "recipient-key.set" if key else "recipient-key.removed",
            subject,
            before={"key": before["kid"]} if before else None,
            after={"key": key["kid"]} if key else None,
        )
    return key


def list_recipients(act: Act, client_id: str) -> list[Recipient]:
    """Return to whom a credential of the client can be sealed: its owners and the webhooks that have a key."""
    with act.read() as session:
        return _recipients(session, act.directory, find_client(session, act.directory, client_id).id)


def seal_for(recipient_id: UUID, words: Words, made: list[SealedTo]) -> Delivery:
    """Return the delivery that seals a credential to a recipient, in the same transaction; `made` takes the result.

    Whoever has the recipient's key could act as the client: an owner, or whoever added the webhook.

    What a webhook gets waits sealed, so that nothing readable stands in the database.

    Args:
        words: what the recipient shall read, from the names of client and directory and what was added.
    """

    def seal(at: Place, added: Added) -> None:
        session = at.unit.session
        known = {recipient.id: recipient for recipient in _recipients(session, at.act.directory, at.client.id)}
        found = known.get(recipient_id)
        if found is None:
            allowed = "; ".join(f"{one.id} ({one.name})" for one in known.values()) or "an owner who registered a key"
            raise Unsuited.field("recipient", str(recipient_id), allowed, "Have an owner register a public key.")
        webhook, person = session.get(WebhookRow, recipient_id), session.get(PersonRow, recipient_id)
        key = webhook.recipient_key if webhook is not None else person.recipient_key if person is not None else None
        assert key is not None
        text = seal_to(key, words(at.client.name, at.act.directory.name, added))
        if found.kind == "webhook":
            said = f"“{at.client.name}”: {added.credential.hint}, sealed to this address's key"
            event = {
                "kind": EVENT,
                "client_id": at.client.id,
                "client_name": at.client.name,
                "words": said,
                "sealed": text,
            }
            session.add(
                PushRow(
                    id=uuid4(),
                    webhook_id=recipient_id,
                    key=f"sealed {added.credential.id}",
                    event=event,
                    made_at=at.act.now,
                    next_at=at.act.now,
                )
            )
            text = ""
        after = {"credential": added.credential.hint, "to": found.name, "key": found.key_id}
        at.unit.enter("credential.sealed", client_subject(at.client), after=after)
        made.append(SealedTo(found, text))

    def gains(at: Place) -> list[str]:
        webhook = at.unit.session.get(WebhookRow, recipient_id)
        return [str(recipient_id) if webhook is None else webhook.made_by_id or at.act.actor.id]

    return Delivery(seal, gains)


def _recipients(session: Session, directory: Directory, client_id: str) -> list[Recipient]:
    owned = owners_of(session, [client_id]).get(client_id, [])
    owners = people_by_id(session, [one.person_id for one in owned])
    found = [
        Recipient(kind="person", id=owner.id, name=owner.name, key_id=owner.recipient_key["kid"])
        for owner in owners
        if owner.active and owner.recipient_key is not None
    ]
    found += [
        Recipient(kind="webhook", id=webhook.id, name=webhook.url, key_id=webhook.recipient_key["kid"])
        for webhook in webhooks_of(session, directory.id)
        if webhook.recipient_key is not None
    ]
    return found


def _person_id(act: Act) -> UUID:
    if act.actor.kind != "person":
        raise Unsuited.field("caller", act.actor.kind, "a person: a client has keys of its own")
    return UUID(act.actor.id)
