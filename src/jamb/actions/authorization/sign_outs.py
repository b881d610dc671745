"""An application asks to sign its person out, and they are sent back to it (OpenID Connect RP-Initiated Logout)."""

from __future__ import annotations

from datetime import datetime
from urllib.parse import urlencode
from uuid import UUID

from jamb.actions.authorization.sealed import SignOutAsked
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.entry.sessions import ConsoleSession
from jamb.core.authorization.redirects import is_registered
from jamb.core.clients.clients import ClientKind, ClientState
from jamb.store.base.work import observation
from jamb.store.clients import clients
from jamb.store.entry import authorizations as store
from jamb.wire.directory.authorizations import SignOutLooked


class NotSentOn(Exception):
    """Nobody is sent to the address that was asked for; the message says why."""


def find_sign_out(
    backend: Backend, slug: str, client_id: str, redirect_uri: str, state: str, access: str, now: datetime
) -> SignOutAsked:
    """Return what is asked (sections 2 and 3).

    Raises:
        NotFound: no such directory. NotSentOn: no such client, or the address is not registered for it.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        client = clients.by_id(session, directory.id, client_id) if client_id else None
        if client_id and (client is None or client.state == ClientState.REMOVED):
            raise NotSentOn("No application of that id is registered here.")
        address = ""
        if redirect_uri:
            known = client.post_logout_redirect_uris if client is not None else []
            if client is None or not is_registered(redirect_uri, known, ClientKind(client.kind)):
                name = f"“{client.name}”" if client is not None else "The application, which does not say which it is,"
                raise NotSentOn(f"{name} asked to send you to an address that is not registered for it.")
            given = f"{'&' if '?' in redirect_uri else '?'}{urlencode({'state': state})}" if state else ""
            address = redirect_uri + given
        return SignOutAsked(directory.slug, client_id, address, access, now)


def look(backend: Backend, asked: SignOutAsked, found: ConsoleSession | None) -> SignOutLooked:
    """Return what the page shows. Who is not signed in there has nothing to end, and is sent on."""
    with observation(backend.engine) as session:
        directory = find_directory(session, asked.directory)
        client = clients.by_id(session, directory.id, asked.client_id) if asked.client_id else None
        mine = found if found is not None and found.directory.id == directory.id else None
        access = session.get(store.AuthorizationRow, UUID(asked.access)) if asked.access else None
        # It shows a token of this very sign-in: the person asked there, and is not asked again (section 2).
        shown = mine is not None and access is not None and access.sign_in == mine.digest
        return SignOutLooked(
            redirect_to=asked.address,
            directory_name=directory.name,
            client_name=client.name if client is not None else "",
            person=mine.person.name if mine is not None else "",
            asks=mine is not None and not shown,
        )
