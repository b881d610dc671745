"""What a guard must know beside the keys: what was taken away lately, and which object lies in which collection.

Everything is derived from the records, so that it is right whichever process answers. An entry says: of tokens of this
client issued until this moment, these permissions count only there (or nowhere). Tokens older than the longest life of
a token need no entry: they have run out.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlmodel import Session

from jamb.actions.access import Admitted
from jamb.actions.premises import Premises, find_resource
from jamb.core.access import HeldGrant
from jamb.core.errors import Forbidden
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, CollectionTree, Reach
from jamb.store import clients, resources, roles

# A guard's clock may be off by as much as it forgives.
SKEW = timedelta(seconds=60)


@dataclass(frozen=True, slots=True)
class Bound:
    """Of tokens issued until `until` (inclusive, whole seconds) to a client, of this kind and for this person.

    None stands for any kind, and for any person.

    `permissions` None: nothing of such a token counts any more. Otherwise each counts only within `reach`: in any of
    these, nowhere when there is none.
    """

    client_id: str
    kind: AccessKind | None
    person_id: str | None
    until: datetime
    permissions: tuple[str, ...] | None
    reach: tuple[Reach, ...]


@dataclass(frozen=True, slots=True)
class Bounds:
    resource: str
    object_name: str
    bounds: tuple[Bound, ...]
    tree: CollectionTree


def read_bounds(premises: Premises, admitted: Admitted, resource_name: str, now: datetime) -> Bounds:
    """Return what the guard of a resource must know now. Raises `Forbidden` to anybody but that guard."""
    directory = admitted.directory
    with Session(premises.engine) as session:
        resource = find_resource(session, directory, resource_name)
        if resource.guard_client_id != admitted.actor.id:
            raise Forbidden(
                f"Only the guard of {resource.name} reads this.",
                next_step="Read with the client that the resource names as its guard.",
            )
        since = now - directory.policy.longest_token - SKEW
        found = [
            Bound(client_id, None, None, moment, None, ())
            for client_id, moment in clients.cut_off_since(session, directory.id, since)
        ]
        catalogue = resources.catalogues(session, [resource])[resource.id]
        touched = clients.narrowed_at(session, resource.id, since, now)
        touched |= roles.narrowed_at(session, resource.id, since, now)
        grants = clients.grants_by_client(session, touched)
        by_role = roles.roles_of_clients(session, touched)
        for client_id in sorted(touched):
            held = [
                _Held(row.held(), row.narrowed_at)
                for row in grants.get(client_id, ())
                if row.resource_id == resource.id
            ]
            held += [
                _Held(one, assignment.narrowed_at, by_role=True)
                for assignment, role in by_role.get(client_id, ())
                if role.resource_id == resource.id
                for one in assignment.grants(role)
            ]
            found.extend(_bounds_of(catalogue, client_id, held, since, now))
        return Bounds(resource.name, resource.object_name, tuple(found), resources.collections_of(session, resource.id))


@dataclass(frozen=True, slots=True)
class _Held:
    """A holding, when it was last changed, and whether a role gives it."""

    grant: HeldGrant
    changed: datetime | None
    by_role: bool = False

    def changed_since(self, since: datetime, now: datetime) -> datetime | None:
        """Return when it last ended or was changed since a moment.

        An end to come is not heard yet. A change always is: of several in one second, the later ones count as of the
        seconds that follow, and tokens made after them say so.
        """
        ended = self.grant.expires_at if self.grant.expires_at is not None and self.grant.expires_at <= now else None
        moments = [one for one in (ended, self.changed) if one is not None and one > since]
        return max(moments, default=None)


def _bounds_of(
    catalogue: Catalogue, client_id: str, held: Sequence[_Held], since: datetime, now: datetime
) -> Iterable[Bound]:
    """For what ended or was changed lately: where the scope values it carried still count, by older holdings."""
    for one in held:
        until = one.changed_since(since, now)
        if until is None:
            continue
        grant = one.grant
        # A role that was changed may have bundled anything before: all that its holder does not still hold is out.
        names = catalogue.permissions.keys() if one.by_role else catalogue.closure(grant.permission)
        by_reach: dict[tuple[Reach, ...], list[str]] = {}
        for name in sorted(names):
            still = _still(catalogue, held, grant, name, until, now)
            if EVERYWHERE not in still:
                by_reach.setdefault(tuple(sorted(still, key=Reach.words)), []).append(name)
        for left, affected in by_reach.items():
            yield Bound(client_id, grant.kind, grant.person_id, until, tuple(affected), left)


def _still(
    catalogue: Catalogue, held: Sequence[_Held], grant: HeldGrant, name: str, until: datetime, now: datetime
) -> set[Reach]:
    """Return where holdings from before the change still let a scope value count, of the same kind and person."""
    return {
        other.grant.reach
        for other in held
        if other.grant.kind is grant.kind
        and other.grant.in_force(now)
        and other.grant.granted_at <= until
        and other.grant.person_id in (None, grant.person_id)
        and name in catalogue.closure(other.grant.permission)
    }
