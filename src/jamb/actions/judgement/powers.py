"""What people and clients of a directory may do, who can act as whom, and who could decide: read as it is needed."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass, field
from datetime import datetime
from functools import cached_property
from uuid import UUID

from sqlmodel import Session

from jamb.core import own_api
from jamb.core.access import Holding
from jamb.core.access.powers import NO_POWERS, Place, Powers, together
from jamb.core.clients.clients import OwnerLevel
from jamb.core.consent.agreements import independent
from jamb.core.directory.directories import Directory
from jamb.core.permissions import AccessKind
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.audit import escalation as rows
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.store.directory import people, roles, sign_in_links
from jamb.store.resources import earlier_catalogues, resources

DECIDES = "requests.decide"
# How many people whose password somebody chose are looked at when that somebody gains by another of them.
MOST_BEHIND = 100


@dataclass
class Bench:
    """One moment in a directory, as a judgement looks at it. Nothing is read before it is asked for."""

    session: Session
    directory: Directory
    now: datetime
    _powers: dict[tuple[str, datetime | None], Powers] = field(default_factory=dict)
    _acting: dict[str, frozenset[str]] = field(default_factory=dict)
    _behind: dict[frozenset[str], frozenset[str]] = field(default_factory=dict)

    @cached_property
    def resource_rows(self) -> dict[UUID, resources.ResourceRow]:
        return {row.id: row for row in resources.resources_of(self.session, self.directory.id)}

    @cached_property
    def places(self) -> Mapping[UUID, Place]:
        since = self.now - self.directory.policy.adding
        return earlier_catalogues.places(self.session, self.resource_rows.values(), since)

    @cached_property
    def own_id(self) -> UUID:
        return next(key for key, row in self.resource_rows.items() if row.name == own_api.NAME)

    def power_of(self, actor_id: str) -> Powers:
        """Return what a person or client may do now: by roles, by consent, and by what they can act as."""
        return self.power_until(actor_id, self.now)

    def power_until(self, actor_id: str, until: datetime | None) -> Powers:
        """Return what a person or client may do now and still may at a later moment (None: for good)."""
        key = actor_id, until
        if key not in self._powers:
            person_id = _uuid(actor_id)
            person = self.session.get(people.PersonRow, person_id) if person_id is not None else None
            if person is not None:
                self._powers[key] = self._person(person, until)
            else:
                self._powers[key] = self.powers_of_clients([actor_id], until=until).get(actor_id, NO_POWERS)
        return self._powers[key]

    def know_clients(self, client_ids: Iterable[str]) -> None:
        """Read at once what these may do for good, for whoever asks it of many."""
        wanted = list(client_ids)
        found = self.powers_of_clients(wanted, until=None)
        self._powers |= {(key, None): found.get(key, NO_POWERS) for key in wanted}

    def power_of_client(self, client_id: str, *, for_people: bool = False) -> Powers:
        """Return what a client may do as itself; `for_people`: and for whoever signs in with it."""
        found = self.powers_of_clients([client_id], for_people=for_people, until=self.now)
        return found.get(client_id, NO_POWERS)

    def powers_of_clients(
        self, client_ids: Iterable[str], *, for_people: bool = False, until: datetime | None
    ) -> dict[str, Powers]:
        """Return what clients may do now and still may at a later moment (None: for good), by client.

        Those that may do nothing are not in it.
        """
        wanted = list(client_ids)
        kinds = set(AccessKind) if for_people else {AccessKind.APPLICATION}
        found: dict[str, dict[UUID, set[Holding]]] = {}
        for client_id, held in clients.held_grants(self.session, wanted).items():
            for key, one in held:
                if one.kind in kinds and one.in_force(self.now) and one.lasts(until):
                    found.setdefault(client_id, {}).setdefault(key, set()).add(Holding(one.permission, one.reach))
        for client_id, assigned in roles.roles_of_clients(self.session, wanted).items():
            for assignment, role in assigned:
                for one in assignment.grants(role):
                    if one.in_force(self.now) and one.lasts(until):
                        place = found.setdefault(client_id, {}).setdefault(role.resource_id, set())
                        place.add(Holding(one.permission, one.reach))
        return {one: {key: frozenset(rows) for key, rows in places.items()} for one, places in found.items()}

    def role_power(self, person_id: UUID, until: datetime | None) -> Powers:
        """Return what a person may do by roles of their own and of their groups that do not end before a moment."""
        return _by_resource(roles.powers_of(self.session, person_id, self.now, until))

    def group_power(self, group_id: UUID) -> Powers:
        """Return what whoever joins a group may do by that."""
        return _by_resource(roles.powers_of_group(self.session, group_id, self.now))

    def power_besides(self, ids: Iterable[str], client_ids: Collection[str]) -> Powers:
        """Return what these may do for good, but for what they may do as these clients."""
        found: list[Powers] = []
        for identity in dict.fromkeys(ids):
            key = _uuid(identity)
            person = self.session.get(people.PersonRow, key) if key is not None else None
            if person is None:
                found += self.powers_of_clients({identity} - set(client_ids), until=None).values()
            else:
                found.append(self._person(person, None, client_ids))
        return together(*found)

    def _person(self, person: people.PersonRow, until: datetime | None, but: Collection[str] = ()) -> Powers:
        owned = clients.owned_by(self.session, person.id)
        own = frozenset(
            Holding(name, role.reach)
            for role in own_api.own_roles(owned, may_register=False)
            for name in role.permissions
        )
        acting = self.powers_of_clients(self._clients_until([str(person.id)], until) - set(but), until=until)
        return together(self.role_power(person.id, until), {self.own_id: own} if own else NO_POWERS, *acting.values())

    # Who can act as whom

    def acting_as(self, client_id: str) -> frozenset[str]:
        """Return the people and clients who can act as a client now: full owners, and who has seen what it proves
        itself with."""
        if client_id not in self._acting:
            found = set(self.answering_for(client_id))
            held = credentials.credentials_of(self.session, [client_id])
            found |= {
                one.seen_by_id for one in held if one.seen_by_id and one.disabled_at is None and one.stands(self.now)
            }
            self._acting[client_id] = frozenset(found - {client_id})
        return self._acting[client_id]

    def answering_for(self, client_id: str) -> frozenset[str]:
        """Return the people who can act as a client for good: its full owners."""
        owners = clients.owners_of(self.session, [client_id]).get(client_id, [])
        return frozenset(str(owner.person_id) for owner in owners if owner.live and owner.level is OwnerLevel.FULL)

    def clients_of(self, ids: Iterable[str]) -> frozenset[str]:
        """Return the clients that any of these can act as now, directly."""
        return self._clients_until(ids, self.now)

    def _clients_until(self, ids: Iterable[str], until: datetime | None) -> frozenset[str]:
        wanted = set(ids)
        keys = [key for one in wanted if (key := _uuid(one)) is not None]
        found = set(clients.owned_fully(self.session, self.directory.id, keys))
        found |= credentials.seen_by(self.session, self.directory.id, wanted, self.now, until)
        return frozenset(found)

    def controllers(self, ids: Iterable[str]) -> frozenset[str]:
        """Return everybody who could be behind what these do: themselves, who can act as them, and so on."""
        key = frozenset(one for one in ids if one)
        if key not in self._behind:
            self._behind[key] = self._all_behind(key)
        return self._behind[key]

    def _all_behind(self, ids: frozenset[str]) -> frozenset[str]:
        found: set[str] = set()
        wanted = set(ids)
        while wanted:
            here = wanted.pop()
            if here in found:
                continue
            found.add(here)
            key = _uuid(here)
            person = self.session.get(people.PersonRow, key) if key is not None else None
            if person is None:
                wanted |= self.acting_as(here)
            else:
                wanted |= {person.password_set_by} - {""}
                wanted.update(sign_in_links.makers_of(self.session, person.id, self.now))
        return frozenset(found)

    def same_as(self, mine: Collection[str]) -> frozenset[str]:
        """Return these and all that they can act as: what was added through any of them counts as theirs."""
        return frozenset(mine) | self.clients_of(mine)

    def people_of(self, actor_id: str) -> list[str]:
        """Return the people as whom somebody can sign in, because they saw the link by which the password is chosen."""
        behind = self.controllers([actor_id])
        ids = people.set_by(self.session, self.directory.id, behind, MOST_BEHIND)
        ids += sign_in_links.people_by_links_of(self.session, self.directory.id, behind, self.now, MOST_BEHIND)
        return [str(one) for one in dict.fromkeys(ids)]

    def within(self, actor_id: str, person: people.PersonRow) -> bool:
        """Tell whether somebody can act as a person: it is themself, or they saw the person's link."""
        return actor_id in self.controllers([str(person.id)])

    # Who could decide

    def could_decide(self, involved: Collection[str], client_id: str | None) -> list[people.PersonRow]:
        """Return the live people who may decide about a client (None: about what is no client's) and are not involved.

        Of several behind whom the same person could be, one.
        """
        found: list[people.PersonRow] = []
        taken = frozenset(involved)
        for person in self._deciders(client_id):
            behind = self.controllers([str(person.id)])
            if independent(behind, taken):
                found.append(person)
                taken |= behind
        return found

    def may_decide(self, person_id: str, client_id: str | None) -> bool:
        return any(str(decider.id) == person_id for decider in self._deciders(client_id))

    def _deciders(self, client_id: str | None) -> list[people.PersonRow]:
        around = [client_id] if client_id is not None else []
        return [
            person
            for person, reaches in self._deciding
            if any(reach.contains(around) if client_id is not None else not reach.collections for reach in reaches)
        ]

    @cached_property
    def _deciding(self) -> list[tuple[people.PersonRow, list[Reach]]]:
        """The live people who can sign in and may decide about something, by name, each with where."""
        catalogue = resources.catalogues(self.session, [self.resource_rows[self.own_id]])[self.own_id]
        reaches: dict[UUID, list[Reach]] = {}
        giving = catalogue.openers(DECIDES)
        for who, _, _, _, reach, _ in rows.roles_by_person(self.session, self.directory.id, self.now, giving):
            reaches.setdefault(who, []).append(reach_of(reach))
        found = people.people_by_id(self.session, reaches) if reaches else []
        return [(one, reaches[one.id]) for one in found if one.active and one.password_hash]

    def name_of(self, actor_id: str) -> str:
        key = _uuid(actor_id)
        person = self.session.get(people.PersonRow, key) if key is not None else None
        if person is not None:
            return person.name
        client = self.session.get(clients.ClientRow, actor_id)
        return f"“{client.name}”" if client is not None else "Somebody"


def _by_resource(held: Iterable[tuple[UUID, list[str], dict[str, list[str]] | None]]) -> Powers:
    found: dict[UUID, set[Holding]] = {}
    for key, names, reach in held:
        found.setdefault(key, set()).update(Holding(name, reach_of(reach)) for name in names)
    return {key: frozenset(holdings) for key, holdings in found.items()}


def _uuid(text: str) -> UUID | None:
    try:
        return UUID(text)
    except ValueError:
        return None
