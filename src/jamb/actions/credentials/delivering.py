"""A new credential that only the owners see: a link to it travels in each owner's next mail, and is shown nowhere."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from uuid import UUID, uuid4

from jamb.actions.base.backend import Backend
from jamb.actions.credentials.adding import Added, Delivery, Place
from jamb.actions.credentials.handovers import HandoverTerms, Sealed, seal_into
from jamb.core.clients.clients import OwnerLevel
from jamb.core.errors import Unsuited
from jamb.core.notices import NoticeKind, is_urgent
from jamb.store.clients.clients import owners_of
from jamb.store.notices.notices import NoticeRow

Words = Callable[[str, str, Added], bytes]


@dataclass(slots=True)
class Delivered:
    """Takes what was delivered: the handover, and to whom by name."""

    handover: Sealed | None = None
    names: list[str] = field(default_factory=list)


def to_owners(
    backend: Backend, terms: HandoverTerms, words: Words, said: Callable[[Place, Added], str], told: Delivered
) -> Delivery:
    """Return the delivery by which those who answer for the client, and they alone, get the link.

    Args:
        words: what the link shall show, from the names of client and directory and what was added.
        said: the sentence in the mail, before the link.

    Raises (when it is done):
        BadInput: nobody live answers for the client.
    """
    made: list[Sealed] = []
    seal = seal_into(backend, terms, words, made)

    def deliver(at: Place, added: Added) -> None:
        seal(at, added)
        told.handover = made[0]
        for person_id, name in _answering(at):
            identity = uuid4()
            told.names.append(name)
            at.unit.session.add(
                NoticeRow(
                    id=identity,
                    directory_id=at.act.directory.id,
                    person_id=person_id,
                    key=f"delivered/{added.credential.id}",
                    kind=NoticeKind.ROTATION_DELIVERED.value,
                    client_id=at.client.id,
                    words=said(at, added),
                    path=f"/clients/{at.client.id}#credentials",
                    link=at.act.backend.sealer.seal(made[0].link.encode(), f"notice/{identity}"),
                    urgent=is_urgent(NoticeKind.ROTATION_DELIVERED),
                    at=at.act.now,
                )
            )

    return Delivery(deliver, lambda at: [str(person_id) for person_id, _ in _answering(at)])


def _answering(at: Place) -> list[tuple[UUID, str]]:
    owners = owners_of(at.unit.session, [at.client.id]).get(at.client.id, [])
    found = [(owner.person_id, owner.name) for owner in owners if owner.live and owner.level is OwnerLevel.FULL]
    if not found:
        raise Unsuited.field(
            "deliver", "owners", "a client that somebody live answers for", "Name an owner first, or use a link."
        )
    return found
