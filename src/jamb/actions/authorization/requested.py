"""Who asks for what: the client, where it is answered (RFC 6749 section 3.1.2), and the resource that it means."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.authorization.details import check_collections
from jamb.core.authorization.redirects import is_registered, nearest
from jamb.core.authorization.refused import RequestRefused
from jamb.core.authorization.requests import OFFLINE, Wanted
from jamb.core.clients.clients import ClientKind, ClientState, GrantType
from jamb.core.directory.directories import Directory
from jamb.core.permissions import AccessKind
from jamb.store.base.work import observation
from jamb.store.clients import clients
from jamb.store.resources import resources


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
        if not kind.uses(GrantType.AUTHORIZATION_CODE, client.grant_types):
            words = f"“{client.name}” is registered without sign-in by a browser (authorization_code)."
            raise NotToBeAnswered(words, client.id, directory.id, "it is registered without authorization_code")
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
            check_collections(wanted.details, resources.trees(session, [row])[row.id])
        asked = wanted.kept() | {"resource": row.identifier if row is not None else ""}
        if not ClientKind(client.kind).uses(GrantType.REFRESH_TOKEN, client.grant_types):
            # OpenID Connect Core section 11: then it is as if it had not been asked for.
            asked["scope"] = [name for name in asked["scope"] if name != OFFLINE]
        return Wanted.of(asked)


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
