"""What clients do for a person: seen and ended by that person."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from jamb.actions.base.backend import Backend
from jamb.actions.base.subjects import client_subject
from jamb.actions.entry.sessions import ConsoleSession
from jamb.core.authorization.requests import ABOUT_PEOPLE
from jamb.core.errors import NotFound
from jamb.store.base.work import Actor, observation
from jamb.store.clients import clients
from jamb.store.entry import authorizations as store
from jamb.store.resources import resources, use_evidence
from jamb.wire.directory.authorizations import AskedOfPerson, OwnAuthorization

# Newest first; whoever ends some sees those before.
MOST_SHOWN = 200


def of_person(backend: Backend, found: ConsoleSession, now: datetime) -> list[OwnAuthorization]:
    """Return what clients may still do for whoever is signed in, newest first."""
    with observation(backend.engine) as session:
        rows = store.of_person(session, found.person.id, now, MOST_SHOWN)
        used = use_evidence.last_used_for(session, found.person.id, {row.client_id for row in rows})
        named = clients.by_ids(session, {row.client_id for row in rows})
        places = {row.id: row for row in resources.resources_of(session, found.directory.id)}
        catalogues = resources.catalogues(session, places.values())
        answered = []
        for row in rows:
            client, place = named[row.client_id], places.get(row.resource_id) if row.resource_id else None
            known = catalogues[place.id].permissions if place is not None else {}
            answered.append(
                OwnAuthorization(
                    id=row.id,
                    client_id=client.id,
                    client_name=client.name,
                    publisher=client.publisher,
                    resource=place.title if place is not None else "",
                    permissions=[
                        AskedOfPerson(
                            permission=name, title=known[name].title, text=known[name].person_text or known[name].text
                        )
                        for name in row.scope
                        if name in known
                    ],
                    about=sorted(set(row.scope) & ABOUT_PEOPLE),
                    since=row.created_at,
                    stays_until=row.expires_at,
                    last_used_at=used.get((client.id, row.resource_id)) if row.resource_id else None,
                )
            )
        return answered


def end(backend: Backend, found: ConsoleSession, authorization_id: UUID, now: datetime) -> None:
    """End one. Raises `NotFound` where it is nobody's, or somebody else's."""
    actor = Actor("person", str(found.person.id), found.person.name, "Jamb console")
    with backend.change(found.directory, actor, now) as unit:
        row = unit.session.get(store.AuthorizationRow, authorization_id, with_for_update=True)
        if row is None or row.person_id != found.person.id or row.ended_at is not None:
            raise NotFound("There is no such access.", next_step="Look at your applications again.")
        store.end(unit.session, [row], "the person ended it", now)
        client = unit.session.get_one(clients.ClientRow, row.client_id)
        unit.enter("access.ended", client_subject(client), after={"for": found.person.name})
