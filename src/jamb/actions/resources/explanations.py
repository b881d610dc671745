"""Explanations for any resource, with the facts from the store; and who can do an operation."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import datetime
from typing import NamedTuple

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.base.views import credential_view
from jamb.actions.directory.people import find_person
from jamb.actions.entry.access import standing_of
from jamb.actions.judgement.powers import Bench
from jamb.actions.resources.reach import facts_of
from jamb.core.access import (
    Explanation,
    ObjectFacts,
    PersonStanding,
    Request,
    StepKind,
    TokenFacts,
    explain,
    reaches,
)
from jamb.core.access.powers import NO_POWERS, beyond
from jamb.core.clients.clients import ClientKind, lacking
from jamb.core.consent.agreements import agreeing
from jamb.core.directory.directories import Directory
from jamb.core.errors import NotFound, Unsuited, Violation, shorten
from jamb.core.nearest_names import as_written, did_you_mean, listed
from jamb.core.permissions import AccessKind, Catalogue, Operation
from jamb.core.reach import Reach
from jamb.core.reach.details import reach_of
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.store.directory import people, roles
from jamb.store.resources import resources
from jamb.wire.resources.access import ClientHolder, PersonHolder


@dataclass(frozen=True, slots=True)
class Question:
    """What is to be explained. `person` is a login or id; `token` what a presented token was found to say."""

    resource: str
    operation: str
    kind: AccessKind = AccessKind.APPLICATION
    person: str | None = None
    object: str | None = None
    token: TokenFacts | None = None


@dataclass(frozen=True, slots=True)
class ExplainedAccess:
    """`agreement`: why the change takes another person, who that could be, and which way needs none; empty: none."""

    client_id: str
    client_name: str
    resource: str
    operation: str
    kind: AccessKind
    person: PersonStanding | None
    object: ObjectFacts | None
    explanation: Explanation
    agreement: str = ""


def explain_access(act: Act, client_id: str, asked: Question) -> ExplainedAccess:
    """Explain whether a client may do an operation, and the smallest change if it may not.

    Raises:
        BadInput: a person is named though the client acts as itself.
    """
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        resource = find_resource(session, act.directory, asked.resource)
        catalogue = resources.catalogues(session, [resource])[resource.id]
        if asked.person is not None and asked.kind is AccessKind.APPLICATION:
            allowed = "left out: a client that acts as itself acts for nobody"
            raise Unsuited.field("person", asked.person, allowed, "Leave it out, or explain the delegated kind.")
        person = None
        if asked.person is not None:
            row = find_person(session, act.directory, asked.person)
            person = roles.standing(session, row, resource.id, act.now)
            if client.sign_in_groups:
                person = replace(person, groups=frozenset(roles.groups_around(session, row.id)))
        works = None
        if ClientKind(client.kind).confidential:
            held = credentials.credentials_of(session, [client.id])
            works = any(credential_view(row, act.now, act.directory.policy).works for row in held)
        lacks = lacking(ClientKind(client.kind), client.grant_types, for_people=asked.kind is AccessKind.DELEGATED)
        standing = replace(
            standing_of(session, client, resource.id, can_authenticate=works),
            grant_types=tuple(client.grant_types),
            lacks_grant_type=lacks or "",
        )
        found = facts_of(session, resource, asked.object)
        request = Request(asked.operation, asked.kind, person, asked.token, found)
        explained = explain(catalogue, standing, request, act.now, roles.roles_of_resource(session, resource.id))
        agreement = _agreement(session, act.directory, client, explained, act.now)
        return ExplainedAccess(
            client.id, client.name, resource.name, asked.operation, asked.kind, person, found, explained, agreement
        )


def _agreement(
    session: Session, directory: Directory, client: clients.ClientRow, explained: Explanation, now: datetime
) -> str:
    """Say who must agree to the change that would allow it."""
    policy, bench = directory.policy, Bench(session, directory, now)
    kinds = {step.kind for step in explained.steps}
    said = []
    weight = max((step.added_weight for step in explained.steps if step.kind is StepKind.CONSENT), default=0)
    if agreeing(weight, policy):
        could = [one.name for one in bench.could_decide((), client.id)]
        if weight >= policy.two_approvers_weight:
            said.append(f"This consent weighs {weight:g}: two approvers must say yes to a request.")
        else:
            said.append(f"This consent weighs {weight:g}: somebody else than whoever asks must say yes.")
        said.append(f"{' or '.join(could[:5]) or 'Nobody here'} could.")
    if StepKind.ISSUE_SECRET in kinds:
        power = beyond(bench.places, bench.power_of_client(client.id), NO_POWERS).weight
        if agreeing(power, policy):
            said.append(
                f"It may do what weighs {power:g}: its owners can issue the secret, or a custodian has it delivered to "
                "them; for anybody else another person must agree."
            )
    return " ".join(said)


# People of one answer, which come with the first page of clients.
MOST_PEOPLE = 500


class _Held(NamedTuple):
    """By what a client can do an operation, and where; `through`: the role that gives it, empty: a consent."""

    by: clients.Holding
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


def holders(
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
        holding = [
            _Held(one, reach)
            for one in clients.holding(session, resource.id, unlocking, act.now)
            if reaches(catalogue, asked, reach := reach_of(one.reach))
        ]
        by_role, persons = _by_roles(session, catalogue, asked, resource, unlocking, act.now)
        holding += by_role
        # Of thousands only those that are shown are made whole.
        following = sorted(
            (held for held in holding if after is None or held.position > after), key=lambda held: held.order
        )
        # All by which the last one can do it is on the same page.
        last = following[:limit][-1].position if following else None
        page = following if last is None else [held for held in following if held.position <= last]
        told = sorted(persons, key=lambda one: (one.name, one.role, one.through)) if after is None else []
        return Holders(
            catalogue,
            catalogue.operations[operation],
            found,
            tuple(held.told() for held in page),
            len(holding),
            tuple(told[:MOST_PEOPLE]),
            len(persons),
            last if len(following) > len(page) else None,
        )


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
            by = clients.Holding(
                row.id, row.name, live_now, kind, permission, one.held.reach, None, one.held.expires_at
            )
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
