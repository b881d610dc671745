"""Probes: what a client's token would carry now, where its resource answers, and the record that it was tried."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any
from urllib.parse import quote

from sqlmodel import Session

from jamb.actions.authorization.offers import at_resource, is_admitted, is_over
from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.base.subjects import client_subject
from jamb.actions.directory.people import find_person
from jamb.actions.entry.access import standing_of
from jamb.core.access.standing import holdings_in_force
from jamb.core.authorization.client_and_person import bounds_of
from jamb.core.clients.clients import ClientKind, ClientState, lacking
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import NotFound, Unsuited
from jamb.core.permissions import AccessKind, Effect
from jamb.core.reach.details import details
from jamb.core.tokens import issue_second
from jamb.store.clients import clients
from jamb.store.directory import people
from jamb.store.directory.directories import signing_key
from jamb.store.entry import authorizations
from jamb.store.resources import resources

_PARAMETER = re.compile(r"\{([^{}]+)\}")


@dataclass(frozen=True, slots=True)
class ProbePlan:
    """What a probe needs: the key and content of a token as the client would get it, and the call to make.

    `address`: where the resource answers; empty where nobody said. `issued_at`: seconds since 1970. `subject`: the
    client itself, or the person that it acts for, `person` by name. `hindered`: why it gets no token, in a sentence.
    """

    client_id: str
    client_name: str
    kid: str
    audience: str
    scope: frozenset[str]
    bounds: list[dict[str, Any]] | None
    method: str
    path: str
    reads: bool
    address: str
    issued_at: int
    subject: str
    person: str = ""
    hindered: str = ""


def plan_probe(
    act: Act, client_id: str, resource: str, operation: str, name: str | None, login: str | None = None
) -> ProbePlan:
    """Return what a probe needs.

    Args:
        name: of the object that is called upon.
        login: of the person that the client is to act for; None: it acts as itself.

    Raises:
        BadInput: the operation is not called by a path, or needs an object. NotFound: no such operation or person.
    """
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        row = find_resource(session, act.directory, resource)
        catalogue = resources.catalogues(session, [row])[row.id]
        wanted = catalogue.operations.get(operation)
        if wanted is None:
            raise NotFound(f"{row.name} has no operation “{operation}”.", next_step="See `jamb resources show`.")
        if not wanted.method:
            raise Unsuited.field("operation", operation, "one that is called by a method and a path")
        parameters = _PARAMETER.findall(wanted.path)
        if parameters and not name:
            raise Unsuited.field(
                "object", "nothing", f"which {row.object_name or parameters[0]} {wanted.path} is called on"
            )
        if login is None:
            carried = _as_itself(session, act, client, row)
        else:
            carried = _for_person(session, act, client, row, find_person(session, act.directory, login))
        if client.state != ClientState.LIVE:
            carried = replace(carried, hindered="The client is disabled here: it gets no tokens.")
        elif lacks := lacking(ClientKind(client.kind), client.grant_types, for_people=login is not None):
            carried = replace(carried, hindered=f"It is registered without {lacks}: it gets no such token.")
        return ProbePlan(
            client_id=client.id,
            client_name=client.name,
            kid=signing_key(session, act.directory.id, SigningAlgorithm.ES256, act.now).kid,
            audience=row.identifier,
            scope=carried.scope,
            bounds=carried.bounds,
            method=wanted.method,
            path=_PARAMETER.sub(lambda _: quote(name or "", safe=""), wanted.path),
            reads=wanted.effect is Effect.READ,
            address=row.address,
            issued_at=issue_second(act.now, carried.narrowed_at),
            subject=carried.subject,
            person=carried.person,
            hindered=carried.hindered,
        )


@dataclass(frozen=True, slots=True)
class _Carried:
    """What a token would say: whom it is for, and what it carries."""

    subject: str
    scope: frozenset[str]
    bounds: list[dict[str, Any]] | None
    narrowed_at: datetime | None
    person: str = ""
    hindered: str = ""


def _as_itself(session: Session, act: Act, client: clients.ClientRow, row: resources.ResourceRow) -> _Carried:
    catalogue = resources.catalogues(session, [row])[row.id]
    held = [
        (catalogue.closure(holding.permission), holding.reach)
        for holding in holdings_in_force(standing_of(session, client, row.id).grants, AccessKind.APPLICATION, act.now)
    ]
    scope = frozenset().union(*(names for names, _ in held))
    hindered = ""
    if not ClientKind(client.kind).confidential:
        hindered = "A public client gets no token as itself: try it for a person."
    elif not scope:
        hindered = "Nothing is granted to it at this resource, so its token would carry nothing."
    return _Carried(client.id, scope, details(row.identifier, held) or None, client.narrowed_at, hindered=hindered)


def _for_person(
    session: Session, act: Act, client: clients.ClientRow, row: resources.ResourceRow, person: people.PersonRow
) -> _Carried:
    """Return what a token for a person would carry: what both may, as `core.authorization.client_and_person` has it."""
    counts = at_resource(session, client.id, row, person.id, act.now).counts
    hindered = ""
    if not person.active:
        hindered = f"{person.name} is not active any more: nobody signs in."
    elif is_over(client, act.now):
        hindered = f"Its trial ended on {client.trial_ends_at:%Y-%m-%d}: nobody signs in to it."
    elif not is_admitted(session, client, person.id, act.now):
        hindered = (
            f"It is for people of {', '.join(client.sign_in_groups)} alone, and {person.name} is in none of them."
        )
    elif not counts:
        hindered = f"There is nothing that both it and {person.name} may do at this resource."
    moments = (client.narrowed_at, authorizations.narrowed_at(session, client.id, person.id))
    return _Carried(
        str(person.id),
        frozenset(counts),
        bounds_of(row.identifier, counts),
        max((moment for moment in moments if moment is not None), default=None),
        person.name,
        hindered,
    )


def note_probe(act: Act, client_id: str, what: dict[str, Any]) -> None:
    """Enter in the ledger that a client was tried: whoever probes gets a token made in its name."""
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id)
        unit.enter("client.probed", client_subject(client), after=what)
