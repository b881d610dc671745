"""A client asks to act for a person, the person allows it or not, and a code says so to the client.

RFC 6749 section 4.1, RFC 7636, RFC 9700. Until it is decided nothing is kept (`actions.entry.sealed`).
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from hmac import digest as hmac_digest
from typing import Any
from urllib.parse import urlsplit
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory, refuse_suspended
from jamb.actions.base.subjects import client_subject
from jamb.actions.entry.answers import Answer, code_to, refusal_to
from jamb.actions.entry.sealed import Asked, sealed_answer
from jamb.actions.entry.sessions import ConsoleSession
from jamb.core.access import Holding
from jamb.core.access.standing import covering
from jamb.core.authorization.acr import wants_factor
from jamb.core.authorization.both import both_may
from jamb.core.authorization.redirects import is_assured, is_registered, nearest
from jamb.core.authorization.refused import RequestRefused
from jamb.core.authorization.requests import OFFLINE, Wanted
from jamb.core.clients.clients import ClientKind, ClientState, GrantType
from jamb.core.directory.directories import Directory
from jamb.core.errors import Forbidden, NotAdmitted
from jamb.core.permissions import AccessKind, Catalogue, ConsentBy
from jamb.core.reach import CollectionTree, Reach
from jamb.store.base.work import Actor, observation, unit_of_work
from jamb.store.clients import clients, publishers
from jamb.store.consent import requests
from jamb.store.directory import people, roles
from jamb.store.entry import authorizations as store
from jamb.store.resources import resources
from jamb.wire.directory.authorizations import AskedOfPerson, AuthorizationAsked

# RFC 6749 section 4.1.2: at most ten minutes; a client redeems it at once.
CODE_LIFE = timedelta(seconds=60)


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


class NotToBeAnswered(Exception):
    """The request names no client here, or an address that is not the client's: nobody is sent there.

    `outcome` words are for the client's failed attempts: what was sent, and what is registered.
    """

    def __init__(self, words: str, client_id: str = "", directory_id: UUID | None = None, detail: str = "") -> None:
        super().__init__(words)
        self.words, self.client_id, self.directory_id, self.detail = words, client_id, directory_id, detail


@dataclass(frozen=True, slots=True)
class Answerable:
    """A client that may be answered at an address."""

    directory_id: UUID
    client_id: str
    redirect_uri: str


def answerable(backend: Backend, slug: str, client_id: str, redirect_uri: str) -> Answerable:
    """Return where a client is answered (RFC 6749 section 3.1.2.3, RFC 9700 section 2.1).

    Raises:
        NotFound: no such directory. NotToBeAnswered: nobody is sent anywhere.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        client = clients.by_id(session, directory.id, client_id) if client_id else None
        if client is None or client.builtin or client.state == ClientState.REMOVED:
            raise NotToBeAnswered("No application of that id is registered here.", client_id[:80], directory.id)
        kind, known = ClientKind(client.kind), tuple(client.redirect_uris)
        if not kind.may(GrantType.AUTHORIZATION_CODE):
            words = f"“{client.name}” is registered as a {kind.value}, and acts for nobody who signs in by a browser."
            raise NotToBeAnswered(words, client.id, directory.id, "its kind has no authorization code")
        if not redirect_uri and len(known) == 1:
            return Answerable(directory.id, client.id, known[0])
        if not is_registered(redirect_uri, known, kind):
            words = f"“{client.name}” asked to send you to an address that is not registered for it."
            raise NotToBeAnswered(words, client.id, directory.id, _difference(redirect_uri, known))
        return Answerable(directory.id, client.id, redirect_uri)


def _difference(sent: str, known: tuple[str, ...]) -> str:
    if not sent:
        return f"redirect_uri is missing; {len(known)} are registered"
    found = nearest(sent, known)
    if found is None:
        return f"redirect_uri is {sent[:200]}; none is registered"
    address, place = found
    # From the mark on they differ: a slash, a letter, a port.
    theirs, ours = (f"{name[:place][-60:]}»{name[place : place + 80]}" for name in (sent, address))
    return f"redirect_uri is {theirs}; registered is {ours}"


def find_resource_wanted(backend: Backend, slug: str, client_id: str, wanted: Wanted) -> Wanted:
    """Return the request with its resource by identifier, found by its permissions where it names none.

    Raises:
        RequestRefused: invalid_target, invalid_scope or unauthorized_client.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        if directory.suspended:
            raise RequestRefused("temporarily_unavailable", "The directory is suspended.")
        client = clients.by_id(session, directory.id, client_id)
        if client is None or client.state != ClientState.LIVE:
            raise RequestRefused("unauthorized_client", "The client is disabled here.")
        row = _wanted_at(session, backend, directory, client_id, wanted)
        if row is None and not wanted.about_people:
            raise RequestRefused("invalid_scope", "Ask for permissions, or for openid.")
        if row is not None:
            known = resources.catalogues(session, [row])[row.id].permissions
            unknown = [name for name in wanted.permissions if name not in known]
            if unknown:
                raise RequestRefused("invalid_scope", f"{row.identifier} has no permission {unknown[0][:80]}.")
        return Wanted.of({**wanted.kept(), "resource": row.identifier if row is not None else ""})


def _wanted_at(
    session: Session, backend: Backend, directory: Directory, client_id: str, wanted: Wanted
) -> resources.ResourceRow | None:
    """Return the resource that is named, or else the one at which the client has to do with all that it asks for."""
    rows = resources.resources_of(session, directory.id)
    if wanted.resource:
        # Perhaps by a former address: the token is for the present one.
        own = wanted.resource in backend.own_identifiers(directory.slug)
        name = backend.own_identifier(directory.slug) if own else wanted.resource
        found = [row for row in rows if row.identifier == name]
        if not found:
            raise RequestRefused("invalid_target", f"This directory has no resource {wanted.resource[:120]}.")
        return found[0]
    if not wanted.permissions:
        return None
    places = _places(clients.held_grants(session, [client_id])) | _places(clients.held_asks(session, [client_id]))
    near = [row for row in rows if row.id in places]
    catalogues = resources.catalogues(session, near)
    names = set(wanted.permissions)
    fitting = [row for row in near if names <= catalogues[row.id].permissions.keys()]
    if len(fitting) != 1:
        raise RequestRefused("invalid_target" if fitting else "invalid_scope", _unclear(wanted, len(fitting)))
    return fitting[0]


def _places(held: Mapping[str, list[tuple[UUID, Any]]]) -> set[UUID]:
    """Return the resources of what is asked or held for people."""
    return {place for rows in held.values() for place, item in rows if item.kind is AccessKind.DELEGATED}


def _unclear(wanted: Wanted, several: int) -> str:
    names = " ".join(wanted.permissions)[:120]
    if several:
        return f"More than one resource has {names}: name one with the parameter resource."
    return f"No resource at which this client asks for anything has {names}."


def look(backend: Backend, asked: Asked, found: ConsoleSession | None, now: datetime) -> AuthorizationAsked:
    """Return what the page shows. Raises `NotFound` where the client went meanwhile."""
    with observation(backend.engine) as session:
        directory = find_directory(session, asked.directory)
        refuse_suspended(directory)
        client = asking_client(session, directory, asked.client_id, asked.wanted)
        mine = found is not None and found.directory.id == directory.id and _is_meant(asked, found)
        again = mine and found is not None and _must_sign_in_again(asked, found, now)
        wanted = asked.wanted
        quiet = "none" in wanted.prompt
        factor = mine and found is not None and wants_factor(wanted.acr_values) and not found.second_factor
        admitted = not mine or found is None or is_admitted(session, client, found.person.id)
        looked = mine and found is not None and (admitted or not quiet)
        shown = offer(session, directory, client, wanted, found.person.id, now) if looked and found else Offer()
        at_once: Answer | None = None
        assured = is_assured(wanted.redirect_uri, ClientKind(client.kind))
        if quiet and not admitted:
            at_once = refusal_to(backend, asked, "access_denied", "The client is not for this person.")
        elif quiet and (not mine or again):
            at_once = refusal_to(backend, asked, "login_required", "The person must sign in.")
        elif quiet and factor:
            # OpenID Connect Core Unmet Authentication Requirements section 2, RFC 9470 section 5.
            said = "The person has no second factor."
            at_once = refusal_to(backend, asked, "unmet_authentication_requirements", said)
        elif quiet and shown.open_questions:
            at_once = refusal_to(backend, asked, "consent_required", "The person must decide, or an administrator.")
        elif quiet and not assured:
            at_once = refusal_to(
                backend, asked, "interaction_required", "Whatever listens there may ask as this client."
            )
        vouched = not client.publisher or client.publisher in publishers.vouched_domains(session, directory.id)
        return AuthorizationAsked(
            **sent_on(backend, at_once, now),
            asks=bool({"consent", "select_account"} & set(wanted.prompt))
            or shown.open_questions
            or shown.empty
            or not assured,
            sign_in="needed" if not mine else "again" if again else "factor" if factor else "",
            directory=directory.slug,
            directory_name=directory.name,
            client_id=client.id,
            client_name=client.name,
            purpose=client.purpose,
            publisher=client.publisher,
            publisher_vouched=vouched,
            # What a stranger says of itself leads nobody anywhere.
            client_uri=client.client_uri if vouched else "",
            policy_uri=client.policy_uri if vouched else "",
            tos_uri=client.tos_uri if vouched else "",
            support_contact=client.support_contact,
            answered_at=_where(wanted.redirect_uri),
            login_hint=wanted.login_hint,
            person=found.person.name if mine and found is not None else "",
            requestable=list(shown.requestable),
            requested_until=shown.requested_until,
            **asked_for(wanted, shown),
        )


def _where(redirect_uri: str) -> str:
    """Return where a person is sent back to, in short: a host, or the scheme of an application on their device."""
    parts = urlsplit(redirect_uri)
    return parts.netloc if parts.scheme in {"https", "http"} else f"{parts.scheme}:"


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


def sent_on(backend: Backend, answer: Answer | None, now: datetime) -> dict[str, str]:
    """Return where a person is sent with an answer, as `wire.SentOn` has it."""
    if answer is None:
        return {"redirect_to": "", "form": ""}
    if answer.by_form:
        return {"redirect_to": "", "form": sealed_answer(backend, answer.redirect_uri, answer.members, now)}
    return {"redirect_to": answer.address, "form": ""}


def _is_meant(asked: Asked, found: ConsoleSession) -> bool:
    """OpenID Connect Core section 5.5.1: of a client that names whom it means, nobody else may answer."""
    return asked.wanted.claims.subject in {"", str(found.person.id)}


def _must_sign_in_again(asked: Asked, found: ConsoleSession, now: datetime) -> bool:
    """OpenID Connect Core section 3.1.2.1: `prompt=login`, or signed in longer ago than `max_age`."""
    if "login" in asked.wanted.prompt and found.began_at < asked.at:
        return True
    return asked.wanted.max_age is not None and now - found.began_at > timedelta(seconds=asked.wanted.max_age)


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
    if not is_admitted(session, client, person_id):
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
    for name in wanted.permissions or sorted(asked):
        permission = at.catalogue.permissions[name]
        shown = AskedOfPerson(permission=name, title=permission.title, text=permission.person_text or permission.text)
        # What the person may do of it themself, be it a part: of the rest nothing comes into a token.
        possible = both_may(at.catalogue, at.tree, [Holding(name)], theirs)
        if not possible:
            part = "not_theirs"
        elif name in at.consented:
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


def _asks_that_wait(session: Session, client_id: str, now: datetime) -> Mapping[UUID, datetime]:
    """Return the asks for which a request waits, and until when."""
    return {ask: row.due_at for row in requests.waiting_for(session, client_id, now) for ask in row.ask_ids}


def is_admitted(session: Session, client: clients.ClientRow, person_id: UUID) -> bool:
    """Tell whether a person may sign in to a client at all: it may be for some groups alone."""
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


def decide(
    backend: Backend, asked: Asked, found: ConsoleSession, chosen: frozenset[str], now: datetime, *, allow: bool
) -> Answer:
    """Return where the person is sent with the answer: a code, or an error.

    Raises:
        Forbidden: they are signed in elsewhere, or must sign in again; or the client may not be answered any more.
    """
    if found.directory.slug != asked.directory:
        raise Forbidden("You are signed in to another directory.", next_step="Sign out, and start again.")
    if not allow:
        with observation(backend.engine) as session:
            asking_client(session, found.directory, asked.client_id, asked.wanted)
        return refusal_to(backend, asked, "access_denied", "The person said no.")
    if not _is_meant(asked, found):
        raise Forbidden("The application means another person.", next_step="Sign out, and start again.")
    if _must_sign_in_again(asked, found, now):
        raise Forbidden("Sign in again first.", next_step="Type your password once more.")
    if wants_factor(asked.wanted.acr_values) and not found.second_factor:
        raise Forbidden("The application wants a second factor.", next_step="Set one up under “Your sign-in”.")
    code = secrets.token_urlsafe(32)
    made = allowed_by(backend, asked.client_id, asked.wanted, found, chosen, code, now)
    if made is None:
        return refusal_to(backend, asked, "access_denied", "Nothing that was asked for is allowed.")
    return code_to(backend, asked, code)


def allowed_by(
    backend: Backend,
    client_id: str,
    wanted: Wanted,
    found: ConsoleSession,
    chosen: frozenset[str],
    code: str,
    now: datetime,
) -> UUID | None:
    """Keep that a person allows a client what it wants, and the code by which it learns it; None: nothing is left.

    `chosen`: what they consent to for themself, of that which is theirs to allow.

    Raises:
        Forbidden: the client may not be answered any more, or the resource went.
    """
    directory = found.directory
    if chosen:
        _consent(backend, client_id, wanted, chosen, found, now)
    with observation(backend.engine) as session:
        client = asking_client(session, directory, client_id, wanted)
        shown = offer(session, directory, client, wanted, found.person.id, now)
        granted = {asked.permission for asked in shown.already}
        if wanted.resource and not granted and not wanted.about_people:
            return None
        made = uuid4()
        row = resources.by_identifier(session, directory.id, wanted.resource) if wanted.resource else None
        session.add(
            store.AuthorizationRow(
                id=made,
                directory_id=directory.id,
                client_id=client.id,
                request=wanted.kept(),
                created_at=now,
                expires_at=now + CODE_LIFE,
                resource_id=row.id if row is not None else None,
                scope=sorted(granted | set(wanted.about_people)),
                person_id=found.person.id,
                authenticated_at=found.began_at,
                sign_in=found.digest,
                second_factor=found.second_factor,
                code_digest=digest_of(backend, code),
            )
        )
    return made


def _consent(
    backend: Backend,
    client_id: str,
    wanted: Wanted,
    chosen: frozenset[str],
    found: ConsoleSession,
    now: datetime,
) -> None:
    """Enter what a person consents to for themself, of that which is theirs to allow at this moment."""
    directory, person = found.directory, found.person
    actor = Actor("person", str(person.id), person.name, "Jamb console")
    with unit_of_work(backend.engine, backend.sealer, directory, actor, now) as unit:
        # Locked before it is looked at: nobody disables it, nor consents to the same, in between.
        client = asking_client(unit.session, directory, client_id, wanted, lock=True)
        shown = offer(unit.session, directory, client, wanted, person.id, now)
        fresh = sorted({asked.permission for asked in shown.to_allow} & chosen)
        row = resources.by_identifier(unit.session, directory.id, wanted.resource) if fresh else None
        if row is None:
            return
        for name in fresh:
            unit.session.add(
                clients.GrantRow(
                    id=uuid4(),
                    client_id=client.id,
                    resource_id=row.id,
                    permission=name,
                    kind=AccessKind.DELEGATED.value,
                    granted_at=now,
                    granted_by=person.name,
                    person_id=person.id,
                    by_person=True,
                    revision=row.revision,
                    collections_revision=row.collections_revision,
                )
            )
        after = {"resource": row.name, "permissions": fresh, "kind": "delegated", "for": person.name}
        unit.enter("consent.granted", client_subject(client), after=after, reason="Allowed for themself")


def digest_of(backend: Backend, code: str) -> bytes:
    return hmac_digest(backend.sealer.session_key, b"authorization\0" + code.encode(errors="replace"), "sha256")


def page_may_read(backend: Backend, slug: str, client_id: str, origin: str) -> bool:
    """Tell whether a page of this origin may read what a client that runs in the browser is answered.

    Fetch standard, CORS: the origins of its redirect URIs (RFC 6454) and no other.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        client = clients.by_id(session, directory.id, client_id)
        if client is None or client.kind != ClientKind.BROWSER:
            return False
        return origin in {f"{parts.scheme}://{parts.netloc}" for parts in map(urlsplit, client.redirect_uris)}
