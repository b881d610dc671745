"""What is around clients and bears on how they are judged: what owners may do, whom else they could take over.

Read for some clients at once. Whatever changes here is noted for the clients it bears on (migration 0016).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session, col

from jamb.core import own_api
from jamb.core.access import HeldGrant
from jamb.core.audit import OtherPicture, OwnerPicture, ResourcePicture
from jamb.core.clients import OwnerLevel
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, weigh_operation
from jamb.core.reach import ReachKind
from jamb.store import clients, resources, roles
from jamb.store.directories import DirectoryRow
from jamb.store.people import PersonRow
from jamb.store.publishers import vouched_domains

_GRAVE = frozenset({DataClass.PERSONAL, DataClass.RESTRICTED})
# Who may do one of these to a client can act as it.
TAKES_OVER = frozenset(
    {"credentials.issue", "credentials.make", "credentials.add", "rotations.open", "rotations.reissue",
     "handovers.make", "handovers.seal", "owners.change"}
)  # fmt: skip
Rights = Sequence[tuple[UUID, frozenset[str], datetime | None]]


@dataclass(frozen=True, slots=True)
class Around:
    """`there`: the clients named by some reach that are there. `rights`: what owners hold by roles, by person."""

    domain: str
    population: int
    vouched: frozenset[str]
    there: frozenset[str]
    rights: Mapping[UUID, Rights]
    taken_over: Mapping[str, tuple[OtherPicture, ...]]

    def others(self, client_id: str) -> tuple[OtherPicture, ...]:
        return self.taken_over.get(client_id, ())

    def owner(self, one: clients.Owned, grave: Mapping[UUID, tuple[Catalogue, frozenset[str]]]) -> OwnerPicture:
        """Return an owner beside the grave operations that the client may do at each resource."""
        full = one.level is OwnerLevel.FULL
        if not full or not one.live:
            return OwnerPicture(one.name, one.live, full)
        rights = self.rights.get(one.person_id, ())
        beyond, weight = [], 0
        for key, (catalogue, operations) in grave.items():
            mine = catalogue.opened_by_all(name for at, names, _ in rights if at == key for name in names)
            for name in operations - mine:
                beyond.append(f"{catalogue.name}: {name}")
                weight += weigh_operation(catalogue.operations[name])
        ends = min((until for _, _, until in rights if until is not None), default=None)
        return OwnerPicture(one.name, one.live, full, tuple(sorted(beyond)), weight, ends)


def grave_at(place: ResourcePicture) -> frozenset[str]:
    """Return the grave operations that a client may do as itself at a resource."""
    held = [rung.permission for rung in place.rungs if rung.granted and rung.kind is AccessKind.APPLICATION]
    operations = place.catalogue.operations
    return frozenset(
        name
        for name in place.catalogue.opened_by_all(held)
        if operations[name].data_class in _GRAVE or operations[name].effect is Effect.CONTROL
    )


def around(
    session: Session,
    directory_id: UUID,
    owners: Mapping[str, Iterable[clients.Owned]],
    grants: Mapping[str, Iterable[tuple[UUID, HeldGrant]]],
    by_role: Mapping[str, Iterable[tuple[roles.AssignmentRow, roles.RoleRow]]],
    now: datetime,
) -> Around:
    """Read what is around some clients, of which these are the owners, consents and roles."""
    directory = session.get_one(DirectoryRow, directory_id)
    answering = {one.person_id for held in owners.values() for one in held if one.live and one.level is OwnerLevel.FULL}
    counted = sa.select(sa.func.count()).where(col(PersonRow.directory_id) == directory_id, col(PersonRow.live))
    own = resources.by_name(session, directory_id, own_api.NAME)
    reached: frozenset[str] = frozenset()
    taken_over: dict[str, tuple[OtherPicture, ...]] = {}
    if own is not None:
        held = _at_own_api(own.id, grants, by_role, now)
        reached = frozenset().union(*(one.reach.collections for rows in held.values() for one in rows))
        if reached:
            taken_over = _taken_over(session, held, resources.catalogues(session, [own])[own.id], own.id, now)
    return Around(
        domain=directory.domain,
        population=session.execute(counted).scalar_one(),
        vouched=vouched_domains(session, directory_id),
        there=frozenset(clients.still_there(session, reached)) if reached else frozenset(),
        rights=roles.held_by_people(session, answering, now),
        taken_over=taken_over,
    )


def _at_own_api(
    resource_id: UUID,
    grants: Mapping[str, Iterable[tuple[UUID, HeldGrant]]],
    by_role: Mapping[str, Iterable[tuple[roles.AssignmentRow, roles.RoleRow]]],
    now: datetime,
) -> dict[str, list[HeldGrant]]:
    """Return what clients hold now at Jamb's own API, as themselves, by consent and by roles."""
    found: dict[str, list[HeldGrant]] = {}
    for client_id, rows in grants.items():
        held = [one for at, one in rows if at == resource_id]
        if held:
            found[client_id] = held
    for client_id, assigned in by_role.items():
        for assignment, role in assigned:
            if role.resource_id == resource_id:
                found.setdefault(client_id, []).extend(assignment.grants(role))
    return {
        key: [one for one in held if one.kind is AccessKind.APPLICATION and one.in_force(now)]
        for key, held in found.items()
    }


def _taken_over(
    session: Session,
    held: Mapping[str, list[HeldGrant]],
    catalogue: Catalogue,
    resource_id: UUID,
    now: datetime,
) -> dict[str, tuple[OtherPicture, ...]]:
    """Return the clients that a client can take over one by one, and that can themselves give access."""
    ways = {
        key: [
            (target, one)
            for one in grants
            if one.reach.kind is ReachKind.ONLY and not TAKES_OVER.isdisjoint(catalogue.opened_by(one.permission))
            for target in one.reach.collections - {key}
        ]
        for key, grants in held.items()
    }
    targets = {target for pairs in ways.values() for target, _ in pairs}
    if not targets:
        return {}
    consents, assigned = clients.held_grants(session, targets), roles.roles_of_clients(session, targets)
    theirs = _at_own_api(resource_id, consents, assigned, now)
    live = {row.id: row for row in clients.by_ids(session, targets).values() if row.state == "live"}
    found: dict[str, tuple[OtherPicture, ...]] = {}
    for key, pairs in ways.items():
        seen: dict[str, OtherPicture] = {}
        for target, by in sorted(pairs, key=lambda pair: (pair[0], pair[1].permission)):
            grants = theirs.get(target, [])
            controls = sorted(
                name
                for name in catalogue.opened_by_all(one.permission for one in grants)
                if catalogue.operations[name].effect is Effect.CONTROL
            )
            if target in live and controls and target not in seen:
                ends = [one.expires_at for one in (by, *grants) if one.expires_at is not None]
                until = min(ends, default=None)
                seen[target] = OtherPicture(target, live[target].name, by.permission, tuple(controls), until)
        found[key] = tuple(seen.values())
    return found
