"""Clients with all that rules and lists need, read set-wise: a handful of statements for any number of clients."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Protocol, TypeVar
from uuid import UUID

from sqlmodel import Session

from jamb.core import own_api
from jamb.core.access import HeldAsk, HeldGrant
from jamb.core.audit.evaluate import evaluate, worst_first
from jamb.core.audit.findings import Finding
from jamb.core.audit.past import Done
from jamb.core.audit.picture import (
    ClientPicture,
    CredentialPicture,
    DeadTries,
    NetworkPicture,
    RedirectPicture,
    ResourcePicture,
    RotationPicture,
    Told,
)
from jamb.core.audit.rules.credentials import RECENT
from jamb.core.audit.rules.usual_use import DAYS_LOOKED_AT
from jamb.core.clients.clients import ClientKind, ClientState, in_use
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.ladder import Use, ladder
from jamb.core.permissions import Catalogue
from jamb.core.reach import CollectionTree
from jamb.store.audit import findings, past_acts
from jamb.store.audit.surroundings import Around, around
from jamb.store.base.reading import Answer, Readings
from jamb.store.clients import clients, grant_type_use, logos, publishers, redirect_use
from jamb.store.credentials import credentials, rotations
from jamb.store.directory import people, roles
from jamb.store.resources import resources, usage, use_evidence

USE_WINDOW = timedelta(days=30)
# Of so many clients what is read by their ids comes in one statement.
FEW = 20


@dataclass(frozen=True, slots=True)
class LoadedClient:
    """A client's row and its picture; the row stays inside store and actions."""

    row: clients.ClientRow
    picture: ClientPicture
    owners: tuple[clients.Owned, ...]
    credentials: tuple[credentials.CredentialRow, ...]
    asks: tuple[clients.AskRow, ...]
    grants: tuple[clients.GrantRow, ...]
    roles: tuple[tuple[roles.AssignmentRow, roles.RoleRow], ...]
    # Of the resources of the picture, in their order.
    resource_ids: tuple[UUID, ...] = ()
    # Findings that are waived knowingly, as rule and subject.
    waived: frozenset[tuple[str, str]] = frozenset()

    def findings(self, policy: DirectoryPolicy, now: datetime) -> list[Finding]:
        """Return what is wrong with it now, without what is waived, worst first."""
        found = evaluate([self.picture], policy, now)
        return worst_first(one for one in found if (one.rule, one.subject) not in self.waived)


def load(
    session: Session,
    directory_id: UUID,
    policy: DirectoryPolicy,
    now: datetime,
    client_ids: Sequence[str] | None = None,
    *,
    daily: bool = True,
    lean: bool = False,
) -> list[LoadedClient]:
    """Return the named clients (in that order), or all that are not part of Jamb itself nor removed (by name).

    Args:
        daily: whether the calls of each day are wanted; without, what was used stands in one row an operation.
        lean: the pictures alone, without the rows of asks, grants and credentials: for many at once.
    """
    rows = {row.id: row for row in clients.to_look_at(session, directory_id, client_ids)}
    ids = list(rows)
    found = resources.resources_of(session, directory_id)
    asked = _Asked.of(directory_id, policy, now, rows, daily=daily)
    asked.readings.read(session, at_once=len(ids) <= FEW)
    owners, by_role = clients.owners_of(session, ids), roles.roles_of_clients(session, ids)
    rows_of = _Rows() if lean else _Rows.of(session, ids)
    asks = clients.held_asks(session, ids) if lean else _by_resource(rows_of.asks)
    grants = clients.held_grants(session, ids) if lean else _by_resource(rows_of.grants)
    parts = _Parts(
        catalogues=resources.catalogues(session, found),
        trees=resources.trees(session, found),
        uncounted={row.id: row.uncounted_until for row in found if row.uncounted_until is not None},
        owners=owners,
        by_role=by_role,
        asks=asks,
        grants=grants,
        held=credentials.pictures_of(session, ids) if lean else credentials.pictured(rows_of.credentials),
        rows=rows_of,
        used_at=_latest(asked.used.value),
        around=around(session, asked.here, found, owners, grants, by_role, now),
        names={str(one.id): one.name for one in people.people_by_id(session, _people_of(grants))},
        same_logo=logos.alike(session, pictured) if (pictured := [row.id for row in rows.values() if row.logo]) else {},
        seen=asked,
    )
    order = ids if client_ids is None else [key for key in client_ids if key in rows]
    return [parts.assemble(rows[key], policy, now) for key in order]


@dataclass(frozen=True, slots=True)
class _Asked:
    """What is read of clients by their ids alone: together, where they are few."""

    readings: Readings
    population: Answer[tuple[str, int]]
    vouched: Answer[frozenset[str]]
    used: Answer[Mapping[tuple[str, UUID], list[Use]]]
    objects: Answer[dict[tuple[str, UUID], use_evidence.Touched]]
    people: Answer[dict[tuple[str, UUID], use_evidence.ActedFor]]
    rotations: Answer[dict[str, list[RotationPicture]]]
    dead_tries: Answer[dict[str, list[DeadTries]]]
    told: Answer[dict[str, list[Told]]]
    waived: Answer[dict[str, set[tuple[str, str]]]]
    networks: Answer[dict[str, tuple[NetworkPicture, ...]]]
    days: Answer[dict[str, dict[date, int]]]
    alike: Answer[dict[str, tuple[str, ...]]]
    redirects: Answer[dict[str, list[RedirectPicture]]]
    same_scheme: Answer[dict[str, dict[str, str]]]
    grant_types: Answer[dict[str, dict[str, datetime]]]
    past: Answer[dict[str, tuple[Done, ...]]]
    past_of_all: Answer[tuple[Done, ...]]

    @classmethod
    def of(
        cls,
        directory_id: UUID,
        policy: DirectoryPolicy,
        now: datetime,
        rows: Mapping[str, clients.ClientRow],
        *,
        daily: bool,
    ) -> _Asked:
        ids, ask = list(rows), Readings()
        since = now - policy.use_counts
        return cls(
            readings=ask,
            population=ask.add(people.population_of(directory_id)),
            vouched=ask.add(publishers.vouched_domains(directory_id)),
            used=ask.add(usage.uses_of(ids, (now - USE_WINDOW).date()) if daily else usage.latest_of(ids)),
            objects=ask.add(use_evidence.objects_of(ids, since)),
            people=ask.add(use_evidence.people_of(ids, since)),
            rotations=ask.add(rotations.open_of_clients(ids)),
            dead_tries=ask.add(usage.dead_tries_of(ids, now - RECENT)),
            told=ask.add(usage.told_of(ids, now - RECENT)),
            waived=ask.add(findings.waived_of(ids, now)),
            networks=ask.add(usage.networks_of(ids)),
            days=ask.add(usage.days_of(ids, now.date() - timedelta(days=DAYS_LOOKED_AT))),
            alike=ask.add(clients.alike(directory_id, ids)),
            redirects=ask.add(redirect_use.of_clients(ids)),
            same_scheme=ask.add(redirect_use.same_scheme(directory_id, ids)),
            grant_types=ask.add(grant_type_use.used_by(ids)),
            past=ask.add(past_acts.of_clients(directory_id, ids, now)),
            past_of_all=ask.add(past_acts.of_all(directory_id, now)),
        )

    @property
    def here(self) -> tuple[tuple[str, int], frozenset[str]]:
        return self.population.value, self.vouched.value


@dataclass(frozen=True, slots=True)
class _Rows:
    """Table objects by client, where more is wanted than the pictures."""

    asks: Mapping[str, list[clients.AskRow]] = field(default_factory=dict)
    grants: Mapping[str, list[clients.GrantRow]] = field(default_factory=dict)
    credentials: Mapping[str, list[credentials.CredentialRow]] = field(default_factory=dict)

    @classmethod
    def of(cls, session: Session, ids: Sequence[str]) -> _Rows:
        return cls(
            _by_client(clients.asks_of(session, ids)),
            _by_client(clients.grants_of(session, ids)),
            _by_client(credentials.credentials_of(session, ids)),
        )


@dataclass(frozen=True, slots=True)
class _Parts:
    """What was read for all clients at once, by client."""

    catalogues: Mapping[UUID, Catalogue]
    trees: Mapping[UUID, CollectionTree]
    uncounted: Mapping[UUID, datetime]
    owners: Mapping[str, list[clients.Owned]]
    by_role: Mapping[str, list[tuple[roles.AssignmentRow, roles.RoleRow]]]
    asks: Mapping[str, list[tuple[UUID, HeldAsk]]]
    grants: Mapping[str, list[tuple[UUID, HeldGrant]]]
    held: Mapping[str, list[CredentialPicture]]
    rows: _Rows
    used_at: Mapping[str, datetime]
    around: Around
    names: Mapping[str, str]
    same_logo: Mapping[str, tuple[str, ...]]
    seen: _Asked

    def assemble(self, row: clients.ClientRow, policy: DirectoryPolicy, now: datetime) -> LoadedClient:
        owners = self.owners.get(row.id, [])
        asks, grants = self.asks.get(row.id, []), self.grants.get(row.id, [])
        by_role = self.by_role.get(row.id, [])
        touched = {key for key, _ in asks} | {key for key, _ in grants}
        touched |= {role.resource_id for _, role in by_role}
        places = {key: self._place(row.id, key, asks, grants, by_role, policy, now) for key in touched}
        order = sorted(places, key=lambda key: self.catalogues[key].name)
        others, around_changes_at = self.around.others(row.id)
        picture = ClientPicture(
            id=row.id,
            name=row.name,
            live=row.state == ClientState.LIVE,
            owners=tuple(self.around.owner(owner, places, now) for owner in owners),
            credentials=tuple(self.held.get(row.id, ())),
            resources=tuple(places[key] for key in order),
            kind=ClientKind(row.kind),
            purpose=row.purpose,
            registered_at=row.registered_at,
            rotations=tuple(self.seen.rotations.value.get(row.id, ())),
            dead_tries=tuple(self.seen.dead_tries.value.get(row.id, ())),
            told=tuple(self.seen.told.value.get(row.id, ())),
            domain=self.around.domain,
            redirect_uris=tuple(row.redirect_uris),
            publisher=row.publisher,
            vouched=row.publisher in self.around.vouched,
            trial_ends_at=row.trial_ends_at,
            others=others,
            population=self.around.population,
            past=(*self.seen.past.value.get(row.id, ()), *self.seen.past_of_all.value),
            used_at=self.used_at.get(row.id),
            around_changes_at=around_changes_at,
            networks=self.seen.networks.value.get(row.id, ()),
            days=self.seen.days.value.get(row.id, {}),
            alike=self.seen.alike.value.get(row.id, ()),
            same_logo=self.same_logo.get(row.id, ()),
            redirects=tuple(self.seen.redirects.value.get(row.id, ())),
            same_scheme=self.seen.same_scheme.value.get(row.id, {}),
            grant_types=frozenset(in_use(ClientKind(row.kind), row.grant_types)),
            grant_types_since=row.grant_types_since or row.registered_at,
            grant_types_used=frozenset(self.seen.grant_types.value.get(row.id, ())),
            names={
                one.person_id: self.names[one.person_id]
                for _, one in grants
                if one.person_id is not None and one.person_id in self.names
            },
        )
        waived = frozenset(self.seen.waived.value.get(row.id, ()))
        return LoadedClient(
            row,
            picture,
            tuple(owners),
            tuple(self.rows.credentials.get(row.id, ())),
            tuple(self.rows.asks.get(row.id, ())),
            tuple(self.rows.grants.get(row.id, ())),
            tuple(by_role),
            tuple(order),
            waived,
        )

    def _place(
        self,
        client_id: str,
        key: UUID,
        asks: Iterable[tuple[UUID, HeldAsk]],
        grants: Iterable[tuple[UUID, HeldGrant]],
        by_role: Iterable[tuple[roles.AssignmentRow, roles.RoleRow]],
        policy: DirectoryPolicy,
        now: datetime,
    ) -> ResourcePicture:
        catalogue, tree = self.catalogues[key], self.trees[key]
        held = [*(grant for at, grant in grants if at == key), *held_at(key, (), by_role)]
        rungs = ladder(
            catalogue,
            [ask for at, ask in asks if at == key],
            held,
            self.seen.used.value.get((client_id, key), ()),
            now,
            policy.observation,
            policy.use_counts,
            self.uncounted.get(key),
        )
        touched, acted = self.seen.objects.value.get((client_id, key)), self.seen.people.value.get((client_id, key))
        reached = frozenset().union(*(grant.reach.collections for rung in rungs for grant in rung.grants))
        there = self.around.there if catalogue.name == own_api.NAME else frozenset(tree.collections)
        return ResourcePicture(
            catalogue=catalogue,
            rungs=rungs,
            tree=tree,
            objects=touched.objects if touched is not None else {},
            objects_fade_at=touched.fades_from + policy.use_counts if touched is not None else None,
            gone=reached - there,
            people=acted.people if acted is not None else None,
            people_fade_at=acted.fades_from + policy.use_counts if acted is not None else None,
            uncounted_until=self.uncounted.get(key),
            begins_at=min((one.granted_at for one in held if one.granted_at > now), default=None),
            ended=tuple(one for one in held if one.through and one.expires_at is not None and one.expires_at <= now),
        )


def held_at(
    resource_id: UUID,
    grants: Iterable[clients.GrantRow],
    by_role: Iterable[tuple[roles.AssignmentRow, roles.RoleRow]],
) -> list[HeldGrant]:
    """Return what a client holds or held at one resource, by consent and by its roles."""
    found = [grant.held() for grant in grants if grant.resource_id == resource_id]
    for assignment, role in by_role:
        if role.resource_id == resource_id:
            found.extend(assignment.grants(role))
    return found


def _people_of(grants: Mapping[str, Iterable[tuple[UUID, HeldGrant]]]) -> set[UUID]:
    return {UUID(one.person_id) for rows in grants.values() for _, one in rows if one.person_id is not None}


def _latest(used: Mapping[tuple[str, UUID], Iterable[Use]]) -> dict[str, datetime]:
    """Return when clients did anything last, as guards report it."""
    found: dict[str, datetime] = {}
    for (client_id, _), uses_there in used.items():
        for one in uses_there:
            found[client_id] = max(found.get(client_id, one.last_at), one.last_at)
    return found


class _OfClient(Protocol):
    client_id: str


RowT = TypeVar("RowT", bound=_OfClient)
HeldT = TypeVar("HeldT", covariant=True)  # noqa: PLC0105 - as it is held


class _AtResource(Protocol[HeldT]):
    resource_id: UUID

    def held(self) -> HeldT: ...


def _by_resource(rows: Mapping[str, Iterable[_AtResource[HeldT]]]) -> dict[str, list[tuple[UUID, HeldT]]]:
    return {client_id: [(row.resource_id, row.held()) for row in held] for client_id, held in rows.items()}


def _by_client(rows: Iterable[RowT]) -> dict[str, list[RowT]]:
    found: dict[str, list[RowT]] = {}
    for row in rows:
        found.setdefault(row.client_id, []).append(row)
    return found
