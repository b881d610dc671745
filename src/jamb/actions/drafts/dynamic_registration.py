"""Clients that software registers by itself, and what it may change of them (RFC 7591, RFC 7592).

What comes of it is a draft: it asks, and holds nothing. Once the directory gave it something, it reads what is said of
it and can leave; anything else is for its owners: who holds its token would otherwise choose, without anybody's yes,
where what people allow is sent.
"""

from __future__ import annotations

import secrets
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory, note_narrowed, refuse_suspended
from jamb.actions.base.subjects import client_subject
from jamb.actions.clients.initial_access import presented, proven, token_of
from jamb.actions.clients.registrations import put_change, put_client
from jamb.actions.consent.asks import add_asks, drop_in
from jamb.actions.credentials.adding import Addition, KeysGiven, Place, SecretIssued, keys_in
from jamb.actions.credentials.credentials import withdraw_in
from jamb.core.authorization.requests import ABOUT_PEOPLE
from jamb.core.clients.clients import NAME_LONGEST, ClientState, Registration, folded
from jamb.core.clients.metadata import METADATA, PRIVATE_KEY, Metadata, UnfitMetadata
from jamb.core.credentials.secrets import digest_secret
from jamb.core.directory.directories import Directory
from jamb.core.errors import Forbidden, NotSignedIn, shorten
from jamb.core.ids import client_id_from
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE
from jamb.store.base.work import Actor, Unit
from jamb.store.clients import clients
from jamb.store.clients.initial_access import DynamicRegistrationRow, InitialAccessRow
from jamb.store.consent import requests
from jamb.store.credentials.credentials import by_digest, credentials_of
from jamb.store.directory import roles
from jamb.store.directory.people import PersonRow
from jamb.store.resources import resources

PURPOSE = "registration access"
_NOT_OURS = "The token is not good here: it was never made, has expired, was used up or was withdrawn."


@dataclass(frozen=True, slots=True)
class Told:
    """A client as it is told of itself. `secret`, `ends`: of a new one, which is shown once."""

    client_id: str
    said: Registration
    method: str
    scope: tuple[str, ...]
    at: datetime
    token: str
    keys: Mapping[str, Any] = field(default_factory=dict)
    secret: str = ""
    ends: datetime | None = None


def register_itself(backend: Backend, slug: str, token: str, sent: Metadata, now: datetime) -> Told:
    """Register a client with an initial access token.

    Raises:
        NotSignedIn: the token opens nothing. UnfitMetadata: what cannot be registered. Refusals of credentials.
    """
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        refuse_suspended(directory)
        access = presented(session, backend, directory, token, now)
        if access is None:
            raise NotSignedIn(_NOT_OURS, next_step="Ask an administrator for another.")
        label = access.label
        client_id = client_id_from(secrets.token_bytes(13))
        name = _free_name(session, directory, sent.name or label, client_id)
    wanted = sent.registration(name, f"Registered itself with the initial access token “{label}”.")
    actor = Actor("client", client_id, wanted.name, f"initial access token “{label}”")
    with backend.change(directory, actor, now) as unit:
        held = presented(unit.session, backend, directory, token, now, lock=True)
        if held is None:
            raise NotSignedIn(_NOT_OURS, next_step="Ask an administrator for another.")
        held.used += 1
        unit.session.add(held)
        row = put_client(unit, client_id, wanted, _owners(unit, held))
        made = DynamicRegistrationRow(client_id=client_id, label=held.label, method=sent.method, at=now)
        unit.session.add(made)
        unit.session.flush()
        _ask(unit, row, sent)
        place = Place(Act(backend, directory, actor, now), unit, row, "Registration", seen_by=held.made_by_id)
        secret, ends = _prove_by(place, sent)
        return _told(unit.session, backend, row, made, secret, ends)


def read_itself(backend: Backend, slug: str, client_id: str, token: str) -> Told:
    """Return what is said of a client, to whoever has its registration access token. Raises `NotSignedIn`."""
    with Session(backend.engine) as session:
        _, row, made = _found(session, backend, slug, client_id, token)
        return _told(session, backend, row, made)


def change_itself(backend: Backend, slug: str, client_id: str, token: str, sent: Metadata, now: datetime) -> Told:
    """Put other metadata in place of a draft's (RFC 7592 section 2.2); what it has said nothing of is taken away.

    Raises:
        NotSignedIn: the token is not this client's. Forbidden: it was given something by now.
        UnfitMetadata: what cannot be registered, or is not its own.
    """
    with _changing(backend, slug, client_id, token, now) as own:
        unit, row = own.place.unit, own.place.client
        own.refuse_foreign(sent)
        if _holds(unit.session, client_id, now):
            raise Forbidden(
                f"“{row.name}” was given permissions, so that its owners alone change it.",
                next_step="Ask them, or register another client.",
            )
        if requests.waiting_for(unit.session, client_id, now):
            # Who decides has looked at what it is now.
            raise Forbidden(
                f"A request for “{row.name}” waits for a decision: it stays as it is until then.",
                next_step="Wait for the decision, or register another client.",
            )
        name = sent.name or row.name
        if folded(name) != row.folded_name:
            name = _free_name(unit.session, unit.directory, name, client_id)
        wanted = sent.registration(name, row.purpose, Registration.of(row))
        if wanted != Registration.of(row):
            put_change(unit, row, wanted)
        _ask(unit, row, sent)
        _replace_keys(own.place, sent)
        unit.session.flush()
        return _told(unit.session, backend, row, own.made)


def leave(backend: Backend, slug: str, client_id: str, token: str, now: datetime) -> None:
    """Disable a client and withdraw its credentials, at its own wish (RFC 7592 section 2.3); its token ends too.

    Raises:
        NotSignedIn: the token is not this client's.
    """
    with _changing(backend, slug, client_id, token, now) as own:
        unit, row = own.place.unit, own.place.client
        reason = "The client left"
        for credential in credentials_of(unit.session, [client_id]):
            if credential.withdrawn_at is None:
                withdraw_in(unit, row, credential.id, reason)
        row.state = ClientState.DISABLED.value
        row.tokens_revoked_at = note_narrowed(unit, row)
        own.made.ended_at = now
        unit.session.add_all([row, own.made])
        before = {"state": ClientState.LIVE.value}
        unit.enter("client.disabled", client_subject(row), before=before, after={"state": row.state}, reason=reason)


@dataclass(frozen=True, slots=True)
class _Own:
    """A client that changes itself: locked, within an open unit."""

    place: Place
    made: DynamicRegistrationRow

    def refuse_foreign(self, sent: Metadata) -> None:
        """Refuse what is not this client's, or cannot become it (RFC 7592 section 2.2)."""
        row, unit = self.place.client, self.place.unit
        if sent.client_id != row.id:
            raise UnfitMetadata(METADATA, f"client_id must be {row.id}.")
        if sent.client_secret:
            digest = digest_secret(self.place.act.backend.sealer.credential_key, sent.client_secret)
            held = by_digest(unit.session, digest)
            if held is None or held.client_id != row.id:
                raise UnfitMetadata(METADATA, "client_secret is not this client's: leave it out to keep what it has.")
        if (sent.kind.value, sent.method) != (row.kind, self.made.method):
            raise UnfitMetadata(
                METADATA,
                f"This is a {row.kind} client that proves itself by {self.made.method}. Register another client to use "
                "other grant types, another application type or another token_endpoint_auth_method.",
            )


@contextmanager
def _changing(backend: Backend, slug: str, client_id: str, token: str, now: datetime) -> Iterator[_Own]:
    with Session(backend.engine) as session:
        directory, found, _ = _found(session, backend, slug, client_id, token)
        actor = Actor("client", found.id, found.name, "registration access token")
    with backend.change(directory, actor, now) as unit:
        _, row, made = _found(unit.session, backend, slug, client_id, token, lock=True)
        yield _Own(Place(Act(backend, directory, actor, now), unit, row, "Registration"), made)


def _found(
    session: Session, backend: Backend, slug: str, client_id: str, token: str, *, lock: bool = False
) -> tuple[Directory, clients.ClientRow, DynamicRegistrationRow]:
    """Return a live client that registered itself, to whoever has its token.

    RFC 7592 section 2.1: that there is no such client is told as a token that is not good.
    """
    directory = find_directory(session, slug)
    refuse_suspended(directory)
    row = clients.by_id(session, directory.id, client_id, lock=lock)
    made = session.get(DynamicRegistrationRow, client_id)
    if proven(backend, PURPOSE, token) != client_id or row is None or made is None:
        raise NotSignedIn("The token is not this client's.", next_step="Use the one that it got when it registered.")
    if made.ended_at is not None or row.state != ClientState.LIVE:
        raise NotSignedIn(f"“{row.name}” is not live any more.", next_step="Ask its owners.")
    return directory, row, made


def _owners(unit: Unit, access: InitialAccessRow) -> list[PersonRow]:
    found = [unit.session.get(PersonRow, UUID(owner)) for owner in access.owners]
    return [person for person in found if person is not None]


def _free_name(session: Session, directory: Directory, name: str, client_id: str) -> str:
    """Return the name, with an end of its own where another client has it: software that registers asks nobody.

    RFC 7591 section 3.2.1: what is registered may differ from what was sent.
    """
    tidy = " ".join(name.split())
    if clients.by_name(session, directory.id, folded(tidy)) is None:
        return tidy
    return f"{tidy[: NAME_LONGEST - 7]} {client_id[-6:]}"


def _ask(unit: Unit, row: clients.ClientRow, sent: Metadata) -> None:
    """Let the client ask for what it named, and for nothing else that it asked for itself before.

    Raises:
        UnfitMetadata: a name is unknown, or not clear.
    """
    wanted = _permissions(unit, sent)
    for ask in clients.asks_of(unit.session, [row.id]):
        key = (ask.resource_id, AccessKind(ask.kind))
        if ask.permission in wanted.get(key, ()):
            wanted[key].remove(ask.permission)
        elif ask.asked_by_id == row.id:
            drop_in(unit, row, ask)
    unit.session.flush()
    for (resource_id, kind), names in wanted.items():
        if names:
            resource = unit.session.get_one(resources.ResourceRow, resource_id)
            add_asks(unit, row, resource.name, names, kind, EVERYWHERE, "Named when it registered itself")


def _permissions(unit: Unit, sent: Metadata) -> dict[tuple[UUID, AccessKind], list[str]]:
    """Return the permissions that are meant by the words of a scope, by resource and kind."""
    places = resources.resources_of(unit.session, unit.directory.id)
    known = resources.catalogues(unit.session, places)
    meant = [place for place in places if sent.resource in {"", place.identifier, place.name}]
    if not meant:
        raise UnfitMetadata(METADATA, f"resource: {shorten(sent.resource)} is none of this directory.")
    kinds = [AccessKind.APPLICATION] if sent.as_itself else []
    if sent.kind.for_people:
        kinds.append(AccessKind.DELEGATED)
    found: dict[tuple[UUID, AccessKind], list[str]] = {}
    for word in sent.scope:
        if sent.kind.for_people and word in ABOUT_PEOPLE:
            continue
        having = [place for place in meant if word in known[place.id].permissions]
        if len(having) != 1:
            said = "of several resources: name one by resource" if having else "no permission here"
            raise UnfitMetadata(METADATA, f"scope: {shorten(word)} is {said}.")
        offered = [kind for kind in kinds if kind in known[having[0].id].permissions[word].kinds]
        if not offered:
            raise UnfitMetadata(METADATA, f"scope: {shorten(word)} cannot be held by a client of these grant types.")
        for kind in offered:
            found.setdefault((having[0].id, kind), []).append(word)
    return found


def _prove_by(place: Place, sent: Metadata) -> tuple[str, datetime | None]:
    """Give a client by what it proves itself; return its secret, if that is one, and when it expires."""
    if not sent.kind.confidential:
        return "", None
    wanted: Addition = KeysGiven(sent.jwks, sent.jwks_uri) if sent.method == PRIVATE_KEY else SecretIssued()
    added = wanted.put(place)
    return added.secret or "", added.credential.expires_at


def _replace_keys(place: Place, sent: Metadata) -> None:
    """Put the keys of a client in place of others that it had."""
    if sent.method != PRIVATE_KEY:
        return
    wanted = KeysGiven(sent.jwks, sent.jwks_uri)
    held = [row for row in credentials_of(place.unit.session, [place.client.id]) if row.withdrawn_at is None]
    keys = sorted(keys_in(wanted))
    if any((sorted(row.key_thumbprints or ()), row.keys_uri) == (keys, sent.jwks_uri) for row in held):
        return
    for row in held:
        withdraw_in(place.unit, place.client, row.id, "The client registered other keys")
    wanted.put(place)


def _holds(session: Session, client_id: str, now: datetime) -> bool:
    """Return whether the directory gave a client anything: by consent, by a role, or by being a resource's guard."""
    granted = any(grant.stands(now) for grant in clients.grants_of(session, [client_id]))
    return (
        granted
        or bool(roles.assignments_of_client(session, client_id))
        or bool(resources.guarded_by(session, client_id))
    )


def _told(
    session: Session,
    backend: Backend,
    row: clients.ClientRow,
    made: DynamicRegistrationRow,
    secret: str = "",
    ends: datetime | None = None,
) -> Told:
    said = Registration.of(row)
    asked = {ask.permission for ask in clients.asks_of(session, [row.id])}
    scope = tuple(sorted(asked | (set(ABOUT_PEOPLE) if said.kind.for_people else set())))
    keys: dict[str, Any] = {}
    for held in credentials_of(session, [row.id]):
        if held.withdrawn_at is None and made.method == PRIVATE_KEY:
            keys = {"jwks_uri": held.keys_uri} if held.keys_uri else {"jwks": {"keys": held.keys}}
    return Told(row.id, said, made.method, scope, made.at, token_of(backend, PURPOSE, row.id), keys, secret, ends)
