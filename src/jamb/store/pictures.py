"""Clients with all that rules and lists need, read set-wise: a handful of statements for any number of clients."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Protocol, TypeVar
from uuid import UUID

from sqlmodel import Session, col, select

from jamb.core.access import HeldGrant
from jamb.core.audit import (
    ClientPicture,
    CredentialPicture,
    DeadTries,
    Finding,
    OwnerPicture,
    ResourcePicture,
    RotationPicture,
    evaluate,
    worst_first,
)
from jamb.core.audit.rules.credentials import RECENT
from jamb.core.clients import ClientKind, ClientState, OwnerLevel
from jamb.core.credentials import CredentialKind
from jamb.core.credentials.public_keys import weak_among
from jamb.core.ladder import Use, ladder
from jamb.core.permissions import Catalogue
from jamb.core.policy import DirectoryPolicy
from jamb.store import clients, credentials, findings, resources, roles, rotations, usage
from jamb.store.columns import among

USE_WINDOW = timedelta(days=30)


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
    # Findings that are borne knowingly, as rule and subject.
    waived: frozenset[tuple[str, str]] = frozenset()

    def findings(self, policy: DirectoryPolicy, now: datetime) -> list[Finding]:
        """Return what is wrong with it now, without what is borne knowingly, worst first."""
        found = evaluate([self.picture], policy, now)
        return worst_first(one for one in found if (one.rule, one.subject) not in self.waived)


def load(
    session: Session,
    directory_id: UUID,
    policy: DirectoryPolicy,
    now: datetime,
    client_ids: Sequence[str] | None = None,
) -> list[LoadedClient]:
    """Return the named clients (in that order), or all that are not part of Jamb itself (by name)."""
    statement = select(clients.ClientRow).where(clients.ClientRow.directory_id == directory_id)
    if client_ids is None:
        statement = statement.where(~col(clients.ClientRow.builtin)).order_by(clients.ClientRow.folded_name)
    else:
        statement = statement.where(among(clients.ClientRow.id, client_ids))
    rows = {row.id: row for row in session.exec(statement)}
    ids = list(rows)
    parts = _Parts(
        catalogues=resources.catalogues(session, resources.resources_of(session, directory_id)),
        owners=clients.owners_of(session, ids),
        roles=roles.roles_of_clients(session, ids),
        asks=_by_client(clients.asks_of(session, ids)),
        grants=_by_client(clients.grants_of(session, ids)),
        credentials=_by_client(credentials.credentials_of(session, ids)),
        uses=usage.uses_of(session, ids, (now - USE_WINDOW).date()),
        bounding=frozenset(resources.collection_counts(session, directory_id)),
        rotations=rotations.open_of_clients(session, ids),
        dead_tries=usage.dead_tries_of(session, ids, now - RECENT),
        waived=findings.waived_of(session, ids, now),
    )
    order = ids if client_ids is None else [key for key in client_ids if key in rows]
    return [parts.assemble(rows[key], policy, now) for key in order]


@dataclass(frozen=True, slots=True)
class _Parts:
    """What was read for all clients at once, by client."""

    catalogues: Mapping[UUID, Catalogue]
    owners: Mapping[str, list[clients.Owned]]
    roles: Mapping[str, list[tuple[roles.AssignmentRow, roles.RoleRow]]]
    asks: Mapping[str, list[clients.AskRow]]
    grants: Mapping[str, list[clients.GrantRow]]
    credentials: Mapping[str, list[credentials.CredentialRow]]
    uses: Mapping[tuple[str, UUID], list[Use]]
    # Resources that have collections to which a grant could be bounded.
    bounding: frozenset[UUID]
    rotations: Mapping[str, list[RotationPicture]]
    dead_tries: Mapping[str, list[DeadTries]]
    waived: Mapping[str, set[tuple[str, str]]]

    def assemble(self, row: clients.ClientRow, policy: DirectoryPolicy, now: datetime) -> LoadedClient:
        asks, grants = self.asks.get(row.id, []), self.grants.get(row.id, [])
        owners, held = self.owners.get(row.id, []), self.credentials.get(row.id, [])
        by_role = self.roles.get(row.id, [])
        touched = {one.resource_id for one in asks} | {one.resource_id for one in grants}
        touched |= {role.resource_id for _, role in by_role}
        pictures = tuple(
            ResourcePicture(
                catalogue=self.catalogues[resource_id],
                rungs=ladder(
                    self.catalogues[resource_id],
                    [ask.held() for ask in asks if ask.resource_id == resource_id],
                    held_at(resource_id, grants, by_role),
                    self.uses.get((row.id, resource_id), ()),
                    now,
                    policy.observation,
                ),
                bounds_objects=resource_id in self.bounding,
            )
            for resource_id in sorted(touched, key=lambda key: self.catalogues[key].name)
        )
        picture = ClientPicture(
            id=row.id,
            name=row.name,
            live=row.state == ClientState.LIVE,
            owners=tuple(OwnerPicture(one.name, one.live, one.level is OwnerLevel.FULL) for one in owners),
            credentials=tuple(_credential(credential) for credential in held),
            resources=pictures,
            kind=ClientKind(row.kind),
            purpose=row.purpose,
            registered_at=row.registered_at,
            rotations=tuple(self.rotations.get(row.id, ())),
            dead_tries=tuple(self.dead_tries.get(row.id, ())),
        )
        waived = frozenset(self.waived.get(row.id, ()))
        return LoadedClient(
            row, picture, tuple(owners), tuple(held), tuple(asks), tuple(grants), tuple(by_role), waived
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


class _OfClient(Protocol):
    client_id: str


RowT = TypeVar("RowT", bound=_OfClient)


def _by_client(rows: Iterable[RowT]) -> dict[str, list[RowT]]:
    found: dict[str, list[RowT]] = {}
    for row in rows:
        found.setdefault(row.client_id, []).append(row)
    return found


def _credential(row: credentials.CredentialRow) -> CredentialPicture:
    return CredentialPicture(
        str(row.id),
        CredentialKind(row.kind),
        row.hint,
        row.issued_at,
        row.starts_at,
        row.expires_at,
        row.disabled_at,
        row.withdrawn_at,
        row.last_used_at,
        weak_among(row.keys or ()),
    )
