"""What a client may do for a person, and what of all that it asks is theirs to allow."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.core.access import Holding
from jamb.core.access.standing import covering
from jamb.core.authorization.client_and_person import both_may
from jamb.core.authorization.redirects import is_registered
from jamb.core.authorization.requests import OFFLINE, Wanted
from jamb.core.clients.clients import ClientKind, ClientState
from jamb.core.directory.directories import Directory
from jamb.core.errors import Forbidden, NotAdmitted
from jamb.core.permissions import AccessKind, Catalogue, ConsentBy
from jamb.core.reach import EVERYWHERE, CollectionTree, Reach, ReachKind
from jamb.core.reach.details import reach_of
from jamb.core.reach.reach import coverage
from jamb.store.clients import clients
from jamb.store.clients.initial_access import registered_itself
from jamb.store.consent import requests
from jamb.store.directory import people, roles
from jamb.store.resources import resources
from jamb.wire.directory.authorizations import AskedOfPerson


@dataclass(frozen=True, slots=True)
class AtResource:
    """What a client may do for one person at one resource.

    Attributes:
        counts: the permissions that a token may carry, each with the reaches at which it counts.
        consented: names that are consented to, for everyone or for the person, with what they imply.
    """

    row: resources.ResourceRow
    catalogue: Catalogue
    tree: CollectionTree
    counts: Mapping[str, tuple[Reach, ...]]
    consented: frozenset[str]


@dataclass(frozen=True, slots=True)
class Offer:
    """What is shown to a person of what a client wants at a resource."""

    resource: str = ""
    already: Sequence[AskedOfPerson] = ()
    to_allow: Sequence[AskedOfPerson] = ()
    for_administrator: Sequence[AskedOfPerson] = ()
    not_theirs: Sequence[AskedOfPerson] = ()
    # Asks, by permission, of what the person may ask an administrator to allow; and until when a request for it waits.
    requestable: Mapping[str, UUID] = field(default_factory=dict)
    requested_until: datetime | None = None

    @property
    def open_questions(self) -> bool:
        return bool(self.to_allow or self.for_administrator)

    @property
    def empty(self) -> bool:
        """Whether something was asked for, and nothing of it counts."""
        return bool(self.resource and not self.already)


def offer(
    session: Session, directory: Directory, client: clients.ClientRow, wanted: Wanted, person_id: UUID, now: datetime
) -> Offer:
    """Return what a person is shown of what a client wants.

    Raises:
        Forbidden: the resource went. NotAdmitted: the client is not for them.
    """
    if is_over(client, now):
        raise NotAdmitted(
            f"“{client.name}” was on trial until {client.trial_ends_at:%Y-%m-%d}: nobody signs in to it any more.",
            next_step=f"Ask {client.support_contact or _owners(session, client)} whether it goes on.",
        )
    if not is_admitted(session, client, person_id, now):
        raise NotAdmitted(
            f"“{client.name}” is for people of {_titles(session, directory, client)} alone.",
            next_step=f"Ask {client.support_contact or _owners(session, client)} to let you in.",
        )
    if not wanted.resource:
        return Offer()
    row = resources.by_identifier(session, directory.id, wanted.resource)
    if row is None:
        raise Forbidden("The resource is not here any more.", next_step="Tell whoever runs the application.")
    at = at_resource(session, client.id, row, person_id, now)
    asked = {
        ask.permission: ask.id
        for ask in clients.asks_of(session, [client.id])
        if ask.resource_id == row.id and ask.kind == AccessKind.DELEGATED.value
    }
    theirs = _held_by(session, person_id, row, now)
    parts: dict[str, list[AskedOfPerson]] = {"already": [], "to_allow": [], "for_administrator": [], "not_theirs": []}
    own, others = _consents(session, client, row, person_id, now)
    for_good = frozenset().union(*(at.catalogue.closure(name) for name in others & at.catalogue.permissions.keys()))
    for name in wanted.permissions or sorted(asked):
        permission = at.catalogue.permissions[name]
        wished = wanted.wished({name}) or [Holding(name)]
        shown = AskedOfPerson(
            permission=name,
            title=permission.title,
            text=permission.person_text or permission.text,
            where=_where(at.tree, wished),
        )
        # What the person may do of it themself, be it a part: of the rest nothing comes into a token.
        possible = both_may(at.catalogue, at.tree, wished, theirs)
        if not possible:
            part = "not_theirs"
        elif name in at.consented and (name in for_good or not _asks_for_more(at, name, wished, own)):
            part = "already"
        elif name in asked and permission.consent_by is ConsentBy.PERSON and directory.policy.people_may_consent:
            part = "to_allow"
        else:
            part = "for_administrator"
        parts[part].append(shown)
    beyond = {
        part.permission: asked[part.permission] for part in parts["for_administrator"] if part.permission in asked
    }
    waiting = _asks_that_wait(session, client.id, now) if beyond else {}
    # What is to be answered or accepted first, its owners answer.
    free = not row.questions and not row.terms
    return Offer(
        row.title,
        **parts,
        requestable={name: ask for name, ask in beyond.items() if free and ask not in waiting},
        requested_until=max((waiting[ask] for ask in beyond.values() if ask in waiting), default=None),
    )


def _where(tree: CollectionTree, wished: Sequence[Holding]) -> str:
    """Return where alone something is asked for, in words; empty: everywhere."""
    reaches = [holding.reach for holding in wished]
    if EVERYWHERE in reaches:
        return ""
    said = []
    for reach in reaches:
        # One that went since it was asked for is told by its path.
        known = {path: tree.collections[path].title for path in reach.collections if path in tree.collections}
        titles = ", ".join(known.get(path) or path for path in sorted(reach.collections))
        said.append(f"only {titles}" if reach.kind is ReachKind.ONLY else f"all but {titles}")
    return "; ".join(said)


def _consents(
    session: Session, client: clients.ClientRow, row: resources.ResourceRow, person_id: UUID, now: datetime
) -> tuple[list[Holding], frozenset[str]]:
    """Return what the person consented to for some collections alone, as asked then; and what counts as it is.

    To what an administrator narrowed since, they cannot consent anew: it counts as it is.
    """
    own: list[Holding] = []
    others: set[str] = set()
    for grant in clients.grants_of(session, [client.id]):
        if grant.resource_id != row.id or grant.person_id not in {None, person_id} or not grant.stands(now):
            continue
        if grant.kind != AccessKind.DELEGATED.value:
            continue
        if grant.by_person and grant.reach and grant.narrowed_at is None:
            own.append(Holding(grant.permission, reach_of(grant.reach)))
        else:
            others.add(grant.permission)
    return own, frozenset(others)


def _asks_for_more(at: AtResource, name: str, wished: Sequence[Holding], own: Sequence[Holding]) -> bool:
    """Tell whether something is asked for where the person did not consent to it."""
    mine = [holding.reach for holding in own if name in at.catalogue.closure(holding.permission)]
    return not coverage(at.tree, [holding.reach for holding in wished]) <= coverage(at.tree, mine)


def _asks_that_wait(session: Session, client_id: str, now: datetime) -> Mapping[UUID, datetime]:
    """Return the asks for which a request waits, and until when."""
    return {ask: row.due_at for row in requests.waiting_for(session, client_id, now) for ask in row.ask_ids}


def is_unlooked_at(session: Session, client_id: str, person_id: UUID | None, now: datetime) -> bool:
    """Tell whether a client registered itself, and nobody allowed it anything yet that concerns this person.

    Whoever made it chose its name and where it sends people: without a question it learns nothing about anybody.
    """
    if not registered_itself(session, client_id):
        return False
    grants = clients.grants_of(session, [client_id])
    return not any(grant.person_id in {None, person_id} and grant.stands(now) for grant in grants)


def is_over(client: clients.ClientRow, now: datetime) -> bool:
    """Tell whether a client was on trial, and the trial is over: nobody signs in to it then."""
    return client.trial_ends_at is not None and client.trial_ends_at <= now


def is_admitted(session: Session, client: clients.ClientRow, person_id: UUID, now: datetime) -> bool:
    """Tell whether a person may sign in to a client at all: it may be for some groups alone, or on trial."""
    if is_over(client, now):
        return False
    return not client.sign_in_groups or not roles.groups_around(session, person_id).isdisjoint(client.sign_in_groups)


def _titles(session: Session, directory: Directory, client: clients.ClientRow) -> str:
    known = {group.name: group.title or group.name for group in roles.groups_of(session, directory.id)}
    return ", ".join(known.get(name, name) for name in client.sign_in_groups)


def _owners(session: Session, client: clients.ClientRow) -> str:
    names = ", ".join(owner.name for owner in clients.owners_of(session, [client.id]).get(client.id, []))
    return names or "a steward"


def _held_by(session: Session, person_id: UUID, row: resources.ResourceRow, now: datetime) -> list[Holding]:
    person = session.get_one(people.PersonRow, person_id)
    held = roles.standing(session, person, row.id, now)
    return [Holding(name, role.reach) for role in held.roles for name in role.permissions]


def at_resource(
    session: Session, client_id: str, row: resources.ResourceRow, person_id: UUID, now: datetime
) -> AtResource:
    """Return what a client may do for a person at a resource, both sides taken together."""
    catalogue, tree = resources.catalogues(session, [row])[row.id], resources.trees(session, [row])[row.id]
    grants = [grant for at, grant in clients.held_grants(session, [client_id]).get(client_id, ()) if at == row.id]
    ours = [
        Holding(grant.permission, grant.reach)
        for grant in covering(grants, str(person_id))
        if grant.kind is AccessKind.DELEGATED and grant.in_force(now) and grant.permission in catalogue.permissions
    ]
    theirs = [
        holding for holding in _held_by(session, person_id, row, now) if holding.permission in catalogue.permissions
    ]
    consented = frozenset().union(*(catalogue.closure(holding.permission) for holding in ours))
    return AtResource(row, catalogue, tree, both_may(catalogue, tree, ours, theirs), consented)


def asking_client(
    session: Session, directory: Directory, client_id: str, wanted: Wanted, *, lock: bool = False
) -> clients.ClientRow:
    """Return the client that asks. Much may have changed since it asked.

    Raises:
        Forbidden: it is not live any more, or the person would be sent to an address that is not its own any more.
    """
    client = clients.by_id(session, directory.id, client_id, lock=lock)
    if client is None or client.state != ClientState.LIVE:
        raise Forbidden(
            "The application was disabled or removed meanwhile.", next_step="Tell whoever runs the application."
        )
    there = wanted.redirect_uri
    # A device has none: nobody is sent back to it.
    if there and not is_registered(there, client.redirect_uris, ClientKind(client.kind)):
        raise Forbidden(
            f"The address that “{client.name}” asked to send you to is not registered for it any more.",
            next_step="Start again at the application.",
        )
    return client


def asked_for(wanted: Wanted, shown: Offer) -> dict[str, Any]:
    """Return what is asked as `wire.AskedFor` has it."""
    return {
        "resource": shown.resource,
        "already": shown.already,
        "to_allow": shown.to_allow,
        "for_administrator": shown.for_administrator,
        "not_theirs": shown.not_theirs,
        "about": list(wanted.shown_about),
        "stays": OFFLINE in wanted.scope,
    }
