"""Read what is around clients and bears on how they are judged, for some of them at once.

Whatever changes here is noted for the clients it bears on (migrations 0016 and 0021).
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.core import own_api
from jamb.core.access import HeldGrant, Holding
from jamb.core.audit.picture import OtherPicture, OwnerPicture, ResourcePicture
from jamb.core.audit.surroundings import holds_grave, owner_picture, taken_over, takes_over
from jamb.core.clients.clients import OwnerLevel
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.store.clients import clients
from jamb.store.directory import roles
from jamb.store.resources import resources

_Roles = Mapping[str, Iterable[tuple[roles.AssignmentRow, roles.RoleRow]]]
_Grants = Mapping[str, Iterable[tuple[UUID, HeldGrant]]]


@dataclass(frozen=True, slots=True)
class Around:
    """`there`: the clients named by some reach that are there. `rights`: what owners hold by roles, by person.

    `taken_over`: by client, whom it can take over, and when what those hold changes next by time alone.
    """

    domain: str
    population: int
    vouched: frozenset[str]
    there: frozenset[str]
    rights: Mapping[UUID, Sequence[roles.RoleHeld]]
    taken_over: Mapping[str, tuple[tuple[OtherPicture, ...], datetime | None]]

    def others(self, client_id: str) -> tuple[tuple[OtherPicture, ...], datetime | None]:
        return self.taken_over.get(client_id, ((), None))

    def owner(self, one: clients.Owned, places: Mapping[UUID, ResourcePicture], now: datetime) -> OwnerPicture:
        """Return an owner beside what the client may do at each resource."""
        full = one.level is OwnerLevel.FULL
        if not full or not one.live:
            return OwnerPicture(one.name, one.live, full, id=str(one.person_id))
        held = self.rights.get(one.person_id, ())
        moments = (moment for role in held for moment in (role.begins_at, role.ends_at) if moment is not None)
        return owner_picture(
            one.name,
            [
                (
                    place,
                    {
                        Holding(name, role.reach)
                        for role in held
                        if role.resource_id == key and role.in_force(now)
                        for name in role.permissions
                    },
                )
                for key, place in places.items()
                if holds_grave(place)
            ],
            min((moment for moment in moments if moment > now), default=None),
            str(one.person_id),
        )


def around(
    session: Session,
    here: tuple[tuple[str, int], frozenset[str]],
    places: Iterable[resources.ResourceRow],
    owners: Mapping[str, Iterable[clients.Owned]],
    grants: _Grants,
    by_role: _Roles,
    now: datetime,
) -> Around:
    """Read what is around some clients, of which these are the owners, consents and roles.

    Args:
        here: the directory's domain, how many people may act there, and the domains that it vouches for.
        places: the resources of the directory.
    """
    (domain, population), vouched = here
    answering = {one.person_id for held in owners.values() for one in held if one.live and one.level is OwnerLevel.FULL}
    own = next((row for row in places if row.name == own_api.NAME), None)
    named: frozenset[str] = frozenset()
    others: dict[str, tuple[tuple[OtherPicture, ...], datetime | None]] = {}
    if own is not None:
        held = _at_own_api(own.id, grants, by_role)
        named = frozenset().union(*(row.reach.collections for rows in held.values() for row in rows))
        others = _taken_over(session, held, own, now)
    return Around(
        domain=domain,
        population=population,
        vouched=vouched,
        there=frozenset(clients.still_there(session, named)) if named else frozenset(),
        rights=roles.held_by_people(session, answering, now),
        taken_over=others,
    )


def _at_own_api(resource_id: UUID, grants: _Grants, by_role: _Roles) -> dict[str, list[HeldGrant]]:
    """Return what clients hold, held and will hold at Jamb's own API, of either kind, by consent and by roles."""
    found: dict[str, list[HeldGrant]] = {}
    for client_id, rows in grants.items():
        held = [one for at, one in rows if at == resource_id]
        if held:
            found[client_id] = held
    for client_id, assigned in by_role.items():
        for assignment, role in assigned:
            if role.resource_id == resource_id:
                found.setdefault(client_id, []).extend(assignment.grants(role))
    return found


def _counting(held: Iterable[HeldGrant], now: datetime) -> list[HeldGrant]:
    return [one for one in held if one.kind is AccessKind.APPLICATION and one.in_force(now)]


def _taken_over(
    session: Session, held: Mapping[str, list[HeldGrant]], own: resources.ResourceRow, now: datetime
) -> dict[str, tuple[tuple[OtherPicture, ...], datetime | None]]:
    """Return whom these can take over that can give access, and when what those hold changes next."""
    catalogue = resources.catalogues(session, [own])[own.id]
    ways = {key: [one for one in _counting(rows, now) if takes_over(catalogue, one)] for key, rows in held.items()}
    ways = {key: rows for key, rows in ways.items() if rows}
    if not ways:
        return {}
    if any(row.reach.kind is not ReachKind.ONLY for rows in ways.values() for row in rows):
        there = {row.id: row for row in clients.holding_at(session, own.id)}
    else:
        there = clients.by_ids(session, frozenset().union(*(one.reach.collections for r in ways.values() for one in r)))
    names = {row.id: row.name for row in there.values() if row.state == "live" and not row.builtin}
    theirs = _at_own_api(own.id, clients.held_grants(session, there), roles.roles_of_clients(session, there))
    counting = {key: _counting(rows, now) for key, rows in theirs.items()}
    return {
        key: (
            taken_over(key, rows, counting, names, catalogue),
            _next(_reached(theirs, rows), now),
        )
        for key, rows in ways.items()
    }


def _reached(theirs: Mapping[str, list[HeldGrant]], ways: Iterable[HeldGrant]) -> Iterable[HeldGrant]:
    reaches = [way.reach for way in ways]
    return (row for key, rows in theirs.items() if any(reach.contains((key,)) for reach in reaches) for row in rows)


def _next(held: Iterable[HeldGrant], now: datetime) -> datetime | None:
    moments = (moment for one in held for moment in (one.granted_at, one.expires_at) if moment is not None)
    return min((moment for moment in moments if moment > now), default=None)
