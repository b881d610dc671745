"""Whom a client asks for what only an administrator can allow: they turn it into a request at the consent desk.

Of what the registration asks for already, and no more: who signs in to an application does not decide what it needs.
"""

from __future__ import annotations

from datetime import datetime

from jamb.actions.authorization.offers import asking_client, offer
from jamb.actions.authorization.sealed import Asked
from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.consent.requests import make_request
from jamb.actions.entry.sessions import ConsoleSession
from jamb.actions.entry.tries import refuse_too_many
from jamb.core.errors import Forbidden, NothingToGrant
from jamb.core.tries import REQUESTED, Counted
from jamb.store.base.work import Actor, observation
from jamb.wire.consent.requests import ConsentRequest


def request_for(backend: Backend, asked: Asked, found: ConsoleSession, reason: str, now: datetime) -> ConsentRequest:
    """Make the request, in the name of the person who is asked.

    Raises:
        NothingToGrant: nothing that they could ask an administrator for. Otherwise as `make_request`.
        TooManyTries: they made too many.
    """
    if found.directory.slug != asked.directory:
        raise Forbidden("You are signed in to another directory.", next_step="Sign out, and start again.")
    with observation(backend.engine) as session:
        client = asking_client(session, found.directory, asked.client_id, asked.wanted)
        shown = offer(session, found.directory, client, asked.wanted, found.person.id, now)
        wanted = list(shown.requestable.values())
        name = client.name
    if not wanted:
        raise NothingToGrant(
            f"There is nothing that you could ask an administrator to allow “{name}”.",
            next_step="Ask whoever runs the application.",
        )
    refuse_too_many(backend, (Counted(REQUESTED, (str(found.person.id),)),), now)
    actor = Actor("person", str(found.person.id), found.person.name, "Jamb console")
    return make_request(Act(backend, found.directory, actor, now), asked.client_id, wanted, reason, {}, False)
