"""Who may do what, with the facts from the store: admission to Jamb's own API, and explanations for any resource."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session, select

from jamb.actions.credentials import credential_view
from jamb.actions.premises import Directory, Premises, find_client, find_directory, find_resource
from jamb.core import own_api
from jamb.core.access import (
    CheckName,
    ClientStanding,
    Decision,
    Explanation,
    PersonStanding,
    Request,
    TokenFacts,
    decide,
    explain,
)
from jamb.core.clients import ClientKind, ClientState
from jamb.core.errors import Forbidden, NotFound, NotSignedIn
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind, Catalogue
from jamb.store import clients, credentials, people, resources, usage
from jamb.store.work import Actor, observation


@dataclass(frozen=True, slots=True)
class Caller:
    """Who called Jamb's own API: a client, for a person or as itself, by a token or by a console session."""

    client_id: str
    person_id: UUID | None = None
    token: TokenFacts | None = None


@dataclass(frozen=True, slots=True)
class Admitted:
    """A caller who may do the operation, ready to be an actor in the ledger."""

    directory: Directory
    actor: Actor


@dataclass(frozen=True, slots=True)
class Whoami:
    actor: Actor
    roles: tuple[str, ...]
    may: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class _AtDoor:
    """A caller with all that a decision on Jamb's own API needs."""

    directory: Directory
    resource_id: UUID
    catalogue: Catalogue
    standing: ClientStanding
    person: PersonStanding | None
    token: TokenFacts | None

    def request(self, operation: str) -> Request:
        kind = AccessKind.APPLICATION if self.person is None else AccessKind.DELEGATED
        return Request(operation, kind, self.person, self.token)

    @property
    def actor(self) -> Actor:
        if self.person is None:
            return Actor("client", self.standing.id, self.standing.name, self.standing.name)
        return Actor("person", self.person.id, self.person.name, self.standing.name)


@dataclass(frozen=True, slots=True)
class ExplainedAccess:
    client_id: str
    client_name: str
    resource: str
    operation: str
    kind: AccessKind
    explanation: Explanation


def admit(premises: Premises, slug: str, caller: Caller, operation: str, now: datetime) -> Admitted:
    """Let a caller into one operation of Jamb's own API, by the same decision as for every client.

    Raises:
        NotFound: no such directory, or the caller belongs to another one.
        Forbidden: with the reason, and the role or permission that would do.
    """
    with Session(premises.engine) as session:
        at_door = _meet(session, slug, caller)
        request = at_door.request(operation)
        decision = decide(at_door.catalogue, at_door.standing, request, now)
        if not decision.allowed:
            roles = people.roles_of_resource(session, at_door.resource_id)
            explained = explain(at_door.catalogue, at_door.standing, request, now, roles)
            raise _refusal(session, at_door, operation, decision, explained)
    if at_door.person is None:
        # What a client does here is use like any other, and the audit judges it so.
        use = Use(operation, AccessKind.APPLICATION, now.date(), 1, now)
        with observation(premises.engine) as session:
            usage.add_uses(session, at_door.resource_id, [(caller.client_id, use)])
    return Admitted(at_door.directory, at_door.actor)


def who(premises: Premises, slug: str, caller: Caller, now: datetime) -> Whoami:
    """Return who the caller is, the roles they hold, and every operation of Jamb's own API that is open to them."""
    with Session(premises.engine) as session:
        at_door = _meet(session, slug, caller)
        roles = tuple(sorted(role.name for role in at_door.person.roles)) if at_door.person else ()
        may = tuple(
            name
            for name in sorted(at_door.catalogue.operations)
            if decide(at_door.catalogue, at_door.standing, at_door.request(name), now).allowed
        )
        return Whoami(at_door.actor, roles, may)


def explain_access(
    premises: Premises, slug: str, client_id: str, resource_name: str, operation: str, now: datetime
) -> ExplainedAccess:
    """Explain whether a client may do an operation as itself, and the smallest change if it may not."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client = find_client(session, directory, client_id)
        resource = find_resource(session, directory, resource_name)
        catalogue = resources.catalogues(session, [resource])[resource.id]
        works = None
        if client.kind == ClientKind.SERVICE:
            held = credentials.credentials_of(session, [client.id])
            works = any(credential_view(row, now, directory.policy).works for row in held)
        standing = _standing(session, client, resource.id, can_authenticate=works)
        kind = AccessKind.APPLICATION
        explained = explain(catalogue, standing, Request(operation, kind), now)
        return ExplainedAccess(client.id, client.name, resource.name, operation, kind, explained)


def _meet(session: Session, slug: str, caller: Caller) -> _AtDoor:
    directory = find_directory(session, slug)
    client = clients.by_id(session, directory.id, caller.client_id)
    if client is None:
        raise NotFound(f"No directory “{slug[:40]}” is open to you.", next_step="Use the one you belong to.")
    resource = find_resource(session, directory, own_api.NAME)
    catalogue = resources.catalogues(session, [resource])[resource.id]
    person = None
    if caller.person_id is not None:
        row = session.get(people.PersonRow, caller.person_id)
        if row is None or row.directory_id != directory.id:
            raise NotSignedIn("You are no longer known here.", next_step="Sign in again.")
        person = people.standing(session, row, resource.id)
    standing = _standing(session, client, resource.id)
    return _AtDoor(directory, resource.id, catalogue, standing, person, caller.token)


def _standing(
    session: Session, client: clients.ClientRow, resource_id: UUID, *, can_authenticate: bool | None = None
) -> ClientStanding:
    asks = tuple(row.held() for row in clients.asks_of(session, [client.id]) if row.resource_id == resource_id)
    grants = tuple(row.held() for row in clients.grants_of(session, [client.id]) if row.resource_id == resource_id)
    return ClientStanding(client.id, client.name, client.state == ClientState.LIVE, asks, grants, can_authenticate)


def _refusal(
    session: Session, at_door: _AtDoor, operation: str, decision: Decision, explained: Explanation
) -> Forbidden:
    """Word the refusal: what was wanted, which check failed, and whom to ask."""
    title = at_door.catalogue.operations[operation].title
    reasons = "; ".join(check.evidence for check in decision.failed)
    steps = " ".join(step.text for step in explained.mend)
    if any(check.name is CheckName.ROLE for check in decision.failed):
        stewards = session.exec(
            select(people.PersonRow.name)
            .join(people.RoleAssignmentRow)
            .join(people.RoleRow)
            .where(people.RoleRow.directory_id == at_door.directory.id, people.RoleRow.name == "steward")
            .order_by(people.PersonRow.name)
        )
        names = ", ".join(stewards)
        steps += f" Stewards here: {names}." if names else ""
    return Forbidden(f"“{title}” is refused: {reasons}.", next_step=steps)
