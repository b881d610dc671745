"""Clients: register one, list them, read a dossier."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.credentials import CredentialView, credential_view
from jamb.actions.people import find_person
from jamb.actions.premises import Directory, Premises, find_client, find_directory, load_one
from jamb.core import audit
from jamb.core.clients import ClientKind, ClientState, folded, registration
from jamb.core.credentials import CredentialState
from jamb.core.errors import BadInput, NameTaken, Violation
from jamb.core.ids import client_id_from
from jamb.core.ladder import LadderCount, Rung, count
from jamb.core.next_steps import next_steps
from jamb.core.permissions import Catalogue
from jamb.store import clients, pictures, resources
from jamb.store.work import Actor, unit_of_work


@dataclass(frozen=True, slots=True)
class Owner:
    id: UUID
    name: str


@dataclass(frozen=True, slots=True)
class ClientView:
    """One client as lists show it."""

    id: str
    name: str
    purpose: str
    kind: ClientKind
    state: ClientState
    registered_at: datetime
    registered_by: str
    owners: tuple[Owner, ...]
    ladder: LadderCount
    secret_state: CredentialState | None
    next_end: datetime | None
    last_used_at: datetime | None
    findings: int
    worst: audit.Severity | None
    next_steps: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class RungView:
    """A rung with who asked and granted, and why."""

    rung: Rung
    ask_id: UUID | None
    asked_by: str
    reason: str
    granted_by: str


@dataclass(frozen=True, slots=True)
class ResourceLadder:
    catalogue: Catalogue
    rungs: tuple[RungView, ...]


@dataclass(frozen=True, slots=True)
class Dossier:
    client: ClientView
    resources: tuple[ResourceLadder, ...]
    credentials: tuple[CredentialView, ...]
    findings: tuple[audit.Finding, ...]


@dataclass(frozen=True, slots=True)
class ClientPage:
    items: tuple[ClientView, ...]
    total: int
    # (sort value, id) of the last item, when there is more.
    next: tuple[str, str] | None


def register(
    premises: Premises,
    directory: Directory,
    name: str,
    purpose: str,
    kind: ClientKind,
    owners: Iterable[str],
    actor: Actor,
    now: datetime,
) -> ClientView:
    """Register a client; owners are logins or ids of people of the directory.

    Raises:
        BadInput: name or purpose is not acceptable.
        NameTaken: another client of the directory has this name, in any letter case.
        NotFound: an owner is not known here.
    """
    wanted = registration(name, purpose, kind)
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row = clients.ClientRow(
            id=client_id_from(secrets.token_bytes(13)),
            directory_id=directory.id,
            name=wanted.name,
            folded_name=folded(wanted.name),
            purpose=wanted.purpose,
            kind=wanted.kind.value,
            state=ClientState.LIVE.value,
            registered_at=now,
            registered_by=actor.name,
        )
        with unit.constraint("client_name_taken", lambda: _taken(directory, wanted.name)):
            unit.session.add(row)
        people = {person.id: person for person in (find_person(unit.session, directory, owner) for owner in owners)}
        for person_id in people:
            unit.session.add(clients.ClientOwnerRow(client_id=row.id, person_id=person_id))
        unit.enter(
            actor,
            "client.registered",
            client_subject(row),
            now=now,
            after={
                "name": row.name,
                "purpose": row.purpose,
                "kind": row.kind,
                "owners": [person.name for person in people.values()],
            },
        )
        unit.session.flush()
        return client_view(directory, load_one(unit.session, directory, row, now), now)


def change_owners(
    premises: Premises,
    directory: Directory,
    client_id: str,
    add: Iterable[str],
    remove: Iterable[str],
    actor: Actor,
    now: datetime,
) -> ClientView:
    """Add and remove owners (logins or ids) in one step; who is one already, or is not, changes nothing.

    Raises:
        NotFound: a person is not known here. BadInput: nothing would change.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row = find_client(unit.session, directory, client_id, lock=True)
        before = dict(clients.owners_of(unit.session, [row.id]).get(row.id, []))
        added = {person.id: person.name for person in (find_person(unit.session, directory, one) for one in add)}
        removed = {person.id for person in (find_person(unit.session, directory, one) for one in remove)}
        after = {key: name for key, name in {**before, **added}.items() if key not in removed}
        if after == before:
            raise BadInput.field("add", "nothing new", "people who are not owners yet, or owners to remove")
        for key in before.keys() - after.keys():
            unit.session.delete(unit.session.get_one(clients.ClientOwnerRow, (row.id, key)))
        for key in after.keys() - before.keys():
            unit.session.add(clients.ClientOwnerRow(client_id=row.id, person_id=key))
        unit.enter(
            actor,
            "owners.changed",
            client_subject(row),
            now=now,
            before={"owners": sorted(before.values())},
            after={"owners": sorted(after.values())},
        )
        unit.session.flush()
        return client_view(directory, load_one(unit.session, directory, row, now), now)


def list_clients(
    premises: Premises,
    slug: str,
    now: datetime,
    *,
    query: str = "",
    attention: clients.Attention | None = None,
    sort: clients.ClientSort = clients.ClientSort.NAME,
    after: tuple[str, str] | None = None,
    limit: int = 50,
) -> ClientPage:
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        keys, total = clients.list_page(
            session,
            directory.id,
            now=now,
            notice=directory.policy.notice,
            query=query,
            attention=attention,
            sort=sort,
            after=after,
            limit=limit + 1,
        )
        shown = keys[:limit]
        loaded = pictures.load(session, directory.id, directory.policy, now, [key for key, _ in shown])
        more = (shown[-1][1], shown[-1][0]) if len(keys) > limit else None
        return ClientPage(tuple(client_view(directory, one, now) for one in loaded), total, more)


def read_dossier(premises: Premises, slug: str, client_id: str, now: datetime) -> Dossier:
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        loaded = load_one(session, directory, find_client(session, directory, client_id), now)
        asks = {(ask.resource_id, ask.permission, ask.kind): ask for ask in loaded.asks}
        standing = [grant for grant in loaded.grants if grant.held().in_force(now)]
        grants = {(grant.resource_id, grant.permission, grant.kind): grant for grant in standing}
        by_name = {row.name: row.id for row in resources.resources_of(session, directory.id)}
        ladders = []
        for resource in loaded.picture.resources:
            resource_id = by_name[resource.catalogue.name]
            views = []
            for rung in resource.rungs:
                ask = asks.get((resource_id, rung.permission, rung.kind.value))
                grant = grants.get((resource_id, rung.permission, rung.kind.value))
                views.append(
                    RungView(
                        rung,
                        ask.id if ask else None,
                        ask.asked_by if ask else "",
                        ask.reason if ask else "",
                        grant.granted_by if grant else "",
                    )
                )
            ladders.append(ResourceLadder(resource.catalogue, tuple(views)))
        held = tuple(credential_view(row, now, directory.policy) for row in loaded.credentials)
        findings = tuple(audit.worst_first(audit.evaluate([loaded.picture], directory.policy, now)))
        return Dossier(client_view(directory, loaded, now), tuple(ladders), held, findings)


def client_view(directory: Directory, loaded: pictures.LoadedClient, now: datetime) -> ClientView:
    row, picture = loaded.row, loaded.picture
    rungs = [rung for resource in picture.resources for rung in resource.rungs]
    held = [credential_view(credential, now, directory.policy) for credential in loaded.credentials]
    live = [one for one in held if one.works]
    moments = [rung.last_used_at for rung in rungs] + [one.last_used_at for one in held]
    findings = list(audit.evaluate([picture], directory.policy, now))
    kind = ClientKind(row.kind)
    return ClientView(
        id=row.id,
        name=row.name,
        purpose=row.purpose,
        kind=kind,
        state=ClientState(row.state),
        registered_at=row.registered_at,
        registered_by=row.registered_by,
        owners=tuple(Owner(person_id, name) for person_id, name in loaded.owners),
        ladder=count(rungs),
        secret_state=_overall(held),
        next_end=min((one.expires_at for one in live if one.expires_at is not None), default=None),
        last_used_at=max((moment for moment in moments if moment is not None), default=None),
        findings=len(findings),
        worst=max((finding.severity for finding in findings), default=None),
        next_steps=next_steps(kind, rungs, has_live_secret=bool(live)),
    )


def client_subject(row: clients.ClientRow) -> dict[str, str]:
    return {"kind": "client", "client": row.id, "name": row.name}


def _overall(held: Iterable[CredentialView]) -> CredentialState | None:
    """Return the best state among credentials: what the client can count on. None when all were withdrawn."""
    order = (CredentialState.LIVE, CredentialState.EXPIRING, CredentialState.EXPIRED)
    states = {one.state for one in held}
    return next((state for state in order if state in states), None)


def _taken(directory: Directory, name: str) -> NameTaken:
    return NameTaken(
        f"{directory.name} already has a client “{name}”.",
        violations=(Violation("name", name, "a name no other client of this directory has", "Choose another name."),),
    )
