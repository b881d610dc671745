"""What a guard must know beside the keys: what was taken away lately, and which object lies in which collection.

Everything is derived from the records, so that it is right whichever process answers. Tokens older than the longest
life of a token need no bound: they have run out.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_resource
from jamb.core.access import PastHolding, Revocation, revocations_of
from jamb.core.directory.policy import BOUNDS
from jamb.core.errors import Forbidden
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree
from jamb.store.clients import clients
from jamb.store.directory import roles
from jamb.store.resources import resources
from jamb.store.resources.taken_away import Mark, taken_away

# No token of a protected API lives longer, whatever the policy was when it was made; a guard's clock may be off.
LONGEST_TOKEN = timedelta(seconds=BOUNDS["access_token_seconds"][1])
SKEW = timedelta(seconds=60)


@dataclass(frozen=True, slots=True)
class Revocations:
    """`mark`: of what the answer says, by which it is known from a later one."""

    resource_id: UUID
    mark: Mark
    resource: str
    object_name: str
    revocations: tuple[Revocation, ...]
    tree: CollectionTree
    collections_revision: int
    revision: int
    catalogue: Catalogue


def window(now: datetime) -> dict[str, datetime]:
    """Return the times between which something was taken away that a guard must still know, as statements take them.

    `lives`: of exchanged tokens that had run out by then nobody needs to hear.
    """
    return {"since": now - LONGEST_TOKEN - SKEW, "now": now, "lives": now - SKEW}


def read_revocations(act: Act, resource_name: str) -> Revocations:
    """Return what the guard of a resource must know now. Raises `Forbidden` to anybody but that guard."""
    with act.read() as session:
        resource = find_resource(session, act.directory, resource_name)
        if resource.guard_client_id != act.actor.id:
            raise Forbidden(
                f"Only the guard of {resource.name} reads this.",
                next_step="Read with the client that the resource names as its guard.",
            )
        times = window(act.now)
        since = times["since"]
        away = taken_away(session, act.directory.id, resource.id, **times)
        catalogue = resources.catalogues(session, [resource])[resource.id]
        found = [Revocation(client_id, None, None, moment, None, ()) for client_id, moment in away.clients]
        for client_id, held in _held(session, resource.id, away.held):
            found += revocations_of(catalogue, client_id, held, since, act.now)
        # Tokens for people: of whom something was taken away, whatever it was, or who ended what they allowed.
        found += [Revocation("", AccessKind.DELEGATED, str(person_id), at, None, ()) for person_id, at in away.people]
        found += [
            Revocation(client_id, AccessKind.DELEGATED, str(person_id), at, None, ())
            for client_id, person_id, at in away.access
        ]
        return Revocations(
            resource.id,
            Mark(away.mark, resource.revision, resource.collections_revision),
            resource.name,
            resource.object_name,
            tuple(found),
            resources.trees(session, [resource])[resource.id],
            resource.collections_revision,
            resource.revision,
            catalogue,
        )


def _held(session: Session, resource_id: UUID, touched: Collection[str]) -> Iterator[tuple[str, list[PastHolding]]]:
    """Yield what each of these clients holds or held at a resource, by consents and by its own roles."""
    if not touched:
        return
    grants, by_role = clients.grants_by_client(session, touched), roles.roles_of_clients(session, touched)
    for client_id in sorted(touched):
        held = [
            PastHolding(row.held(), row.narrowed_at)
            for row in grants.get(client_id, ())
            if row.resource_id == resource_id
        ]
        held += [
            PastHolding(grant, assignment.narrowed_at, by_role=True)
            for assignment, role in by_role.get(client_id, ())
            if role.resource_id == resource_id
            for grant in assignment.grants(role)
        ]
        yield client_id, held
