"""Who can do an operation, to an object if one is named: clients by consents and roles, people by roles."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import NamedTuple

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_resource
from jamb.actions.resources.reach import facts_of
from jamb.core.access import ObjectFacts, Request, reaches
from jamb.core.errors import NotFound, Violation, shorten
from jamb.core.nearest_names import as_written, did_you_mean, listed
from jamb.core.permissions import AccessKind, Catalogue, Operation
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.clients import clients
from jamb.store.clients.holdings import Holding, Holdings
from jamb.store.directory import people, roles
from jamb.store.resources import resources
from jamb.wire.resources.access import ClientHolder, PersonHolder

# People of one answer, which come with the first page of clients.
MOST_PEOPLE = 500


class _Held(NamedTuple):
    """By what a client can do an operation, and where; `through`: the role that gives it, empty: a consent."""

    by: Holding
    reach: Reach
    through: str = ""

    @property
    def position(self) -> tuple[str, str]:
        return self.by.client_name, self.by.client_id

    @property
    def order(self) -> tuple[str, ...]:
        return (*self.position, self.by.permission, self.by.person or "", self.by.kind, self.through)

    def told(self) -> ClientHolder:
        return ClientHolder(
            client_id=self.by.client_id,
            client_name=self.by.client_name,
            live=self.by.live,
            kind=AccessKind(self.by.kind),
            permission=self.by.permission,
            reach=self.reach,
            through=self.through,
            person=self.by.person or "",
            expires_at=self.by.expires_at,
        )


@dataclass(frozen=True, slots=True)
class Holders:
    """Who can do an operation, to an object if one is named: a page of clients, and people by their roles.

    `after`: where the page ends, if there are more clients: the name and the id of its last one.
    """

    catalogue: Catalogue
    operation: Operation
    object: ObjectFacts | None
    clients: tuple[ClientHolder, ...]
    clients_in_all: int
    people: tuple[PersonHolder, ...]
    people_in_all: int
    after: tuple[str, str] | None


def read_holders(
    act: Act, resource_name: str, operation: str, object_name: str | None, after: tuple[str, str] | None, limit: int
) -> Holders:
    """Return the clients and people who can do an operation, and through what, in a fixed number of statements.

    Args:
        after: where the page of clients before ended; with it no people are told again.
        limit: of consents and roles; all of one client stand on one page.

    Raises:
        NotFound: the resource has no such operation.
    """
    with act.read() as session:
        resource = find_resource(session, act.directory, resource_name)
        catalogue = resources.catalogues(session, [resource])[resource.id]
        operation = as_written(operation, catalogue.operations)
        if operation not in catalogue.operations:
            allowed = f"operations of {catalogue.name}: {listed(catalogue.operations)}"
            raise NotFound(
                f"{catalogue.name} has no operation {shorten(operation)}.",
                violations=(
                    Violation(
                        "operation",
                        shorten(operation),
                        allowed,
                        did_you_mean(operation, catalogue.operations, "Look through the catalogue."),
                    ),
                ),
            )
        found = facts_of(session, resource, object_name)
        asked = Request(operation, AccessKind.APPLICATION, object=found)
        unlocking = catalogue.unlockers(operation)
        meant = _meant(session, catalogue, asked, Holdings(resource.id, unlocking, act.now))
        in_all, behind = meant.count(session, after)
        consented = [_Held(one, reach_of(one.reach)) for one in meant.page(session, after, limit)]
        by_role, persons = _by_roles(session, catalogue, asked, resource, unlocking, act.now)
        following = sorted(
            (*consented, *(held for held in by_role if after is None or held.position > after)),
            key=lambda held: held.order,
        )
        # All by which the last one can do it is on the same page.
        last = following[:limit][-1].position if following else None
        page = following if last is None else [held for held in following if held.position <= last]
        more = len(following) > len(page) or behind > len(consented)
        told = sorted(persons, key=lambda one: (one.name, one.role, one.through)) if after is None else []
        return Holders(
            catalogue,
            catalogue.operations[operation],
            found,
            tuple(held.told() for held in page),
            in_all + len(by_role),
            tuple(told[:MOST_PEOPLE]),
            len(persons),
            last if more else None,
        )


def _meant(session: Session, catalogue: Catalogue, asked: Request, found: Holdings) -> Holdings:
    """Return those of the consents that hold the object that is asked about, if one is."""
    if asked.object is None or not catalogue.concerns_object(asked.operation):
        return found
    within = [reach for reach in found.reaches(session) if reaches(catalogue, asked, reach_of(reach))]
    return replace(found, within=within)


def _by_roles(
    session: Session,
    catalogue: Catalogue,
    asked: Request,
    resource: resources.ResourceRow,
    unlocking: tuple[str, ...],
    now: datetime,
) -> tuple[list[_Held], list[PersonHolder]]:
    opening = roles.bundling(session, resource.id, unlocking)
    held = [
        (holder, reach)
        for holder in roles.holders_of(session, [role.id for role in opening], now)
        if reaches(catalogue, asked, reach := reach_of(holder.held.reach))
    ]
    inside = roles.people_within(session, [one.group.id for one, _ in held if one.group is not None])
    live = clients.by_ids(session, [one.held.client_id for one, _ in held if one.held.client_id is not None])
    by_client, persons = [], []
    for one, reach in held:
        if one.held.client_id is not None:
            row = live[one.held.client_id]
            permission = next(name for name in unlocking if name in one.role.permissions)
            kind, live_now = AccessKind.APPLICATION.value, row.state == "live"
            by = Holding(row.id, row.name, live_now, kind, permission, one.held.reach, None, one.held.expires_at)
            by_client.append(_Held(by, reach, f"the role {one.role.name}"))
        elif one.group is not None:
            persons += [_person(person, one, reach, one.group.name) for person in inside.get(one.group.id, ())]
        elif one.person is not None:
            persons.append(_person(one.person, one, reach, ""))
    return by_client, [person for person in persons if person is not None]


def _person(person: people.PersonRow, one: roles.Holder, reach: Reach, through: str) -> PersonHolder | None:
    return (
        PersonHolder(login=person.login, name=person.name, role=one.role.name, reach=reach, through=through)
        if person.active
        else None
    )
