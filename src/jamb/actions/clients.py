"""Clients: list them, read a dossier, disable one, cut its tokens off."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from jamb.actions.act import Act
from jamb.actions.backend import find_client, load_one, note_narrowed
from jamb.actions.credentials import credential_view
from jamb.core import audit
from jamb.core.clients import ClientKind, ClientState
from jamb.core.credentials import CredentialState
from jamb.core.directories import Directory
from jamb.core.errors import Unsuited
from jamb.core.ladder import LadderCount, Rung, count
from jamb.core.next_steps import next_steps
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.reach.details import reach_of
from jamb.store import clients, pictures, resources, usage
from jamb.store import people as people_store
from jamb.store.client_lists import Attention, ClientSort, list_page
from jamb.wire.clients import CutOff, Holding, Owner
from jamb.wire.credentials import Credential


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
    credential_state: CredentialState | None
    next_end: datetime | None
    last_used_at: datetime | None
    findings: int
    worst: audit.Severity | None
    next_steps: tuple[str, ...]
    redirect_uris: tuple[str, ...] = ()
    publisher: str = ""
    trial_ends_at: datetime | None = None


@dataclass(frozen=True, slots=True)
class RungView:
    """A rung with who asked and granted, and why."""

    rung: Rung
    ask_id: UUID | None
    asked_by: str
    reason: str
    granted_by: str
    wished: Reach
    holdings: tuple[Holding, ...]


@dataclass(frozen=True, slots=True)
class ResourceLadder:
    catalogue: Catalogue
    rungs: tuple[RungView, ...]


@dataclass(frozen=True, slots=True)
class Dossier:
    client: ClientView
    resources: tuple[ResourceLadder, ...]
    credentials: tuple[Credential, ...]
    findings: tuple[audit.Finding, ...]


@dataclass(frozen=True, slots=True)
class ClientPage:
    items: tuple[ClientView, ...]
    total: int
    # (sort value, id) of the last item, when there is more.
    next: tuple[str, str] | None


def set_state(act: Act, client_id: str, state: ClientState, reason: str) -> ClientView:
    """Disable a client, which cuts its tokens off too, or enable it again. Raises `BadInput` if it is so already."""
    with act.change() as unit:
        row = find_client(unit.session, act.directory, client_id, lock=True)
        if state is ClientState.REMOVED:
            raise Unsuited.field("state", state.value, "live or disabled", "Remove it by a removal.")
        if row.state == state:
            raise Unsuited.field("state", state.value, f"another state: it is {row.state} already")
        before, row.state = row.state, state.value
        if state is ClientState.DISABLED:
            row.cut_off_at = note_narrowed(unit.session, row, act.now)
        unit.session.add(row)
        unit.enter(
            f"client.{'disabled' if state is ClientState.DISABLED else 'enabled'}",
            client_subject(row),
            before={"state": before},
            after={"state": row.state},
            reason=reason,
        )
        unit.session.flush()
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


def cut_off(act: Act, client_id: str, reason: str) -> CutOff:
    """Have every token that a client holds refused, here at once and by guards within seconds. New ones count."""
    with act.change() as unit:
        row = find_client(unit.session, act.directory, client_id, lock=True)
        before = row.cut_off_at
        row.cut_off_at = note_narrowed(unit.session, row, act.now)
        life = timedelta(seconds=act.directory.policy.access_token_seconds)
        living = usage.issued_since(unit.session, row.id, None, act.now - life)
        unit.enter(
            "client.cut-off",
            client_subject(row),
            before={"cut off": before.isoformat() if before is not None else "never"},
            after={"cut off": row.cut_off_at.isoformat(), "tokens that lived": living},
            reason=reason,
        )
        return CutOff(at=row.cut_off_at, live_tokens=living, tokens_until=act.now + life)


def list_clients(
    act: Act,
    *,
    query: str = "",
    attention: Attention | None = None,
    sort: ClientSort = ClientSort.NAME,
    after: tuple[str, str] | None = None,
    limit: int = 50,
    only: frozenset[str] | None = None,
) -> ClientPage:
    """Return a page of clients. `only`: none but these, for whoever sees no others."""
    with act.read() as session:
        keys, total = list_page(
            session,
            act.directory.id,
            now=act.now,
            notice=act.directory.policy.notice,
            query=query,
            attention=attention,
            sort=sort,
            after=after,
            limit=limit + 1,
            only=only,
        )
        shown = keys[:limit]
        loaded = pictures.load(session, act.directory.id, act.directory.policy, act.now, [key for key, _ in shown])
        more = (shown[-1][1], shown[-1][0]) if len(keys) > limit else None
        return ClientPage(tuple(client_view(act.directory, one, act.now) for one in loaded), total, more)


def read_dossier(act: Act, client_id: str) -> Dossier:
    with act.read() as session:
        loaded = load_one(session, act.directory, find_client(session, act.directory, client_id), act.now)
        asks = {(ask.resource_id, ask.permission, ask.kind): ask for ask in loaded.asks}
        standing = [grant for grant in loaded.grants if grant.held().in_force(act.now)]
        by_role = [(held, role) for held, role in loaded.roles if _counts(held.assigned_at, held.expires_at, act.now)]
        names = people_store.names_of(session, (one.person_id for one in standing))
        by_name = {row.name: row.id for row in resources.resources_of(session, act.directory.id)}
        ladders = []
        for resource in loaded.picture.resources:
            resource_id = by_name[resource.catalogue.name]
            views = []
            for rung in resource.rungs:
                ask = asks.get((resource_id, rung.permission, rung.kind.value))
                holdings = [
                    Holding(
                        reach=reach_of(one.reach),
                        granted_at=one.granted_at,
                        expires_at=one.expires_at,
                        granted_by=one.granted_by,
                        person_id=one.person_id,
                        person=names[one.person_id],
                        by_person=one.by_person,
                        through="",
                    )
                    for one in standing
                    if (one.resource_id, one.permission, one.kind) == (resource_id, rung.permission, rung.kind)
                ] + [
                    Holding(
                        reach=reach_of(held.reach),
                        granted_at=held.assigned_at,
                        expires_at=held.expires_at,
                        granted_by=held.assigned_by,
                        person_id=None,
                        person="",
                        by_person=False,
                        through=role.name,
                    )
                    for held, role in by_role
                    if role.resource_id == resource_id
                    and rung.permission in role.permissions
                    and rung.kind is AccessKind.APPLICATION
                ]
                views.append(
                    RungView(
                        rung,
                        ask.id if ask else None,
                        ask.asked_by if ask else "",
                        ask.reason if ask else "",
                        holdings[0].granted_by if holdings else "",
                        reach_of(ask.reach) if ask else EVERYWHERE,
                        tuple(holdings),
                    )
                )
            ladders.append(ResourceLadder(resource.catalogue, tuple(views)))
        held = tuple(credential_view(row, act.now, act.directory.policy) for row in loaded.credentials)
        findings = tuple(loaded.findings(act.directory.policy, act.now))
        return Dossier(client_view(act.directory, loaded, act.now), tuple(ladders), held, findings)


def client_view(directory: Directory, loaded: pictures.LoadedClient, now: datetime) -> ClientView:
    row, picture = loaded.row, loaded.picture
    rungs = [rung for resource in picture.resources for rung in resource.rungs]
    held = [credential_view(credential, now, directory.policy) for credential in loaded.credentials]
    live = [one for one in held if one.works]
    moments = [rung.last_used_at for rung in rungs] + [one.last_used_at for one in held]
    findings = loaded.findings(directory.policy, now)
    kind = ClientKind(row.kind)
    return ClientView(
        id=row.id,
        name=row.name,
        purpose=row.purpose,
        kind=kind,
        state=ClientState(row.state),
        registered_at=row.registered_at,
        registered_by=row.registered_by,
        owners=tuple(Owner(id=one.person_id, name=one.name, level=one.level) for one in loaded.owners),
        ladder=count(rungs),
        credential_state=_overall(held),
        next_end=min((one.expires_at for one in live if one.expires_at is not None), default=None),
        last_used_at=max((moment for moment in moments if moment is not None), default=None),
        findings=len(findings),
        worst=max((finding.severity for finding in findings), default=None),
        next_steps=next_steps(kind, rungs, has_live_secret=bool(live)),
        redirect_uris=tuple(row.redirect_uris),
        publisher=row.publisher,
        trial_ends_at=row.trial_ends_at,
    )


def _counts(since: datetime, until: datetime | None, now: datetime) -> bool:
    return since <= now and (until is None or now < until)


def client_subject(row: clients.ClientRow) -> dict[str, str]:
    return {"kind": "client", "client": row.id, "name": row.name}


def _overall(held: Iterable[Credential]) -> CredentialState | None:
    """Return the best state among credentials: what the client can count on. None when all were withdrawn."""
    order = (
        CredentialState.LIVE,
        CredentialState.EXPIRING,
        CredentialState.COMING,
        CredentialState.DISABLED,
        CredentialState.EXPIRED,
    )
    states = {one.state for one in held}
    return next((state for state in order if state in states), None)
