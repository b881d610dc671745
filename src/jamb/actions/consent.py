"""Consent: see what a yes would make possible, say yes within bounds, change the bounds, end it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from operator import attrgetter
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.asks import AskView, ask_view, check_reason
from jamb.actions.clients import client_subject
from jamb.actions.people import find_person
from jamb.actions.premises import Directory, Premises, find_client, find_directory, find_resource, note_narrowed
from jamb.actions.reach import check_reach
from jamb.core.access import Comparison, HeldGrant, Holding, compare, holdings_in_force
from jamb.core.errors import (
    BadInput,
    NotFound,
    NothingToGrant,
    NothingToWithdraw,
    SecondApprover,
    Violation,
)
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.reach.details import document, reach_of
from jamb.core.requests import approvers_needed, refuse_same_person
from jamb.store import clients, people, pictures, resources, roles, usage
from jamb.store.work import Actor, Unit, unit_of_work

OTHERS_NAMED = 5


@dataclass(frozen=True, slots=True)
class GrantTerms:
    """How a consent is bounded.

    Attributes:
        reach: by the short name of the resource; where it is silent, the reach that each ask wishes counts.
        expires_at: when it ends by itself; None never.
        person: login or id of the one person it covers (delegated only); None covers everyone.
    """

    reach: Mapping[str, Reach] = field(default_factory=dict)
    expires_at: datetime | None = None
    person: str | None = None

    def reach_of(self, resource: str, row: clients.AskRow) -> Reach:
        return self.reach.get(resource, reach_of(row.reach))


@dataclass(frozen=True, slots=True)
class OtherHolders:
    """Who else holds a permission: some names, and how many in all."""

    permission: str
    names: tuple[str, ...]
    count: int


@dataclass(frozen=True, slots=True)
class ConsentAtResource:
    """What consent to some asks of one resource and kind would change there."""

    catalogue: Catalogue
    kind: AccessKind
    asks: tuple[AskView, ...]
    comparison: Comparison
    reach: tuple[Reach, ...]
    others: tuple[OtherHolders, ...]


@dataclass(frozen=True, slots=True)
class ConsentPreview:
    """`approvers`: how many must say yes; `two_people`: whoever asked may not be the one."""

    client_id: str
    client_name: str
    purpose: str
    person: str
    weight: float
    two_people: bool
    approvers: int
    asked_by: tuple[str, ...]
    resources: tuple[ConsentAtResource, ...]


@dataclass(frozen=True, slots=True)
class GrantView:
    resource: str
    permission: str
    kind: AccessKind
    granted_at: datetime
    granted_by: str
    expires_at: datetime | None
    reach: Reach
    person: str
    by_person: bool
    id: UUID


@dataclass(frozen=True, slots=True)
class WithdrawnConsent:
    """What was ended and when, what is no longer possible by it, and which tokens from before still live.

    Attributes:
        tokens_until: when the last of them runs out. Guards that hear of Jamb refuse them within seconds.
        live_tokens: how many of them were issued and have not run out.
    """

    resource: str
    permissions: tuple[str, ...]
    no_longer: frozenset[str]
    ends_at: datetime
    tokens_until: datetime
    live_tokens: int


def preview(
    premises: Premises,
    slug: str,
    client_id: str,
    now: datetime,
    ask_ids: Iterable[UUID] | None = None,
    terms: GrantTerms = GrantTerms(),
) -> ConsentPreview:
    """Return what consent to the waiting asks (or the chosen of them) would make possible; may be empty."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client = find_client(session, directory, client_id)
        chosen = choose(session, client, ask_ids, now)
        return preview_of(session, directory, client, chosen, terms, now)


def grant(
    premises: Premises,
    directory: Directory,
    client_id: str,
    ask_ids: Iterable[UUID] | None,
    actor: Actor,
    now: datetime,
    reason: str = "",
    terms: GrantTerms = GrantTerms(),
) -> list[GrantView]:
    """Consent to all waiting asks, or the chosen ones, in one step.

    Raises:
        NothingToGrant: nothing waits, or a chosen ask is granted already.
        NotFound: a chosen ask does not exist on this client. BadInput: the terms do not fit.
        SamePerson: too heavy for whoever asked. SecondApprover: too heavy for one approver; make a request.
    """
    check_reason(reason)
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        # The lock makes two approvers take turns, so that the second sees what the first granted.
        client = find_client(unit.session, directory, client_id, lock=True)
        chosen = choose(unit.session, client, ask_ids, now)
        seen = preview_of(unit.session, directory, client, chosen, terms, now)
        # The set-up of a service has nobody else to ask.
        if actor.kind != "service":
            refuse_same_person(seen.weight, {row.asked_by_id for row in chosen}, actor.id, directory.policy)
            if seen.approvers > 1:
                raise SecondApprover(
                    f"This adds a weight of {seen.weight:g}: from {directory.policy.two_approvers_weight} on, "
                    "two approvers must consent.",
                    next_step=f"Make a request: jamb requests make {client.id}; two approvers decide it.",
                )
        return enact(unit, directory, client, chosen, seen, terms, actor, now, reason)


def enact(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    chosen: Sequence[clients.AskRow],
    seen: ConsentPreview,
    terms: GrantTerms,
    actor: Actor,
    now: datetime,
    reason: str,
) -> list[GrantView]:
    """Grant the chosen asks within an open unit of work, as the preview said."""
    if not chosen:
        raise NothingToGrant(
            f"“{client.name}” asks for nothing that is not granted already.",
            next_step="Ask for a permission first, or look at what it has.",
        )
    person = find_person(unit.session, directory, terms.person) if terms.person is not None else None
    by_id = {row.id: row for row in chosen}
    granted = []
    for place in seen.resources:
        for item in place.asks:
            ask = by_id[item.id]
            row = clients.GrantRow(
                id=uuid4(),
                client_id=client.id,
                resource_id=ask.resource_id,
                permission=item.permission,
                kind=item.kind.value,
                granted_at=now,
                granted_by=actor.name,
                expires_at=terms.expires_at,
                reach=document(terms.reach_of(item.resource, ask)) or None,
                person_id=person.id if person is not None else None,
            )
            unit.session.add(row)
            granted.append(_grant_view(row, item.resource, person.name if person is not None else ""))
        after: dict[str, object] = {
            "operations": len(place.comparison.unchanged | place.comparison.newly | place.comparison.wider),
            "resource": place.catalogue.name,
            "permissions": sorted(item.permission for item in place.asks),
            "newly possible": sorted(place.comparison.newly),
        }
        if place.kind is AccessKind.DELEGATED:
            after["kind"], after["for"] = place.kind.value, person.name if person is not None else "everyone"
        if any(reach != EVERYWHERE for reach in place.reach):
            after["reach"] = "; ".join(sorted(reach.words for reach in place.reach))
        if terms.expires_at is not None:
            after["until"] = terms.expires_at.isoformat()
        before = {"operations": len(place.comparison.unchanged | place.comparison.wider)}
        unit.enter(actor, "consent.granted", client_subject(client), now=now, before=before, after=after, reason=reason)
    return granted


def change_reach(
    premises: Premises,
    directory: Directory,
    client_id: str,
    resource_name: str,
    permissions: Sequence[str],
    kind: AccessKind,
    reach: Reach,
    actor: Actor,
    now: datetime,
    reason: str = "",
    person: str | None = None,
) -> tuple[list[GrantView], Comparison]:
    """Change where consents count, all or none. Where it narrows, guards act on tokens from before within seconds.

    Raises:
        NothingToWithdraw: one of them is not granted. BadInput: an unknown collection, or nothing would change.
        SamePerson, SecondApprover: it widens, by more than one person may.
    """
    check_reason(reason)
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        resource = find_resource(unit.session, directory, resource_name)
        catalogue = resources.catalogues(unit.session, [resource])[resource.id]
        check_reach(unit.session, resource, reach)
        rows = _granted_rows(unit.session, directory, client, resource, permissions, kind, person, now)
        mine = _held(unit.session, client, resource.id)
        changing = {row.id for row in rows if reach_of(row.reach) != reach}
        if not changing:
            raise BadInput.field("reach", reach.words, "another reach than the one it has")
        others = [one for row, one in mine if row not in changing]
        before = holdings_in_force([one for _, one in mine], kind, now)
        after = holdings_in_force(others, kind, now) | {
            Holding(row.permission, reach) for row in rows if row.id in changing
        }
        comparison = compare(catalogue, before, after, resources.collections_of(unit.session, resource.id))
        _refuse_alone(unit.session, directory, client, resource.id, permissions, comparison.added_weight, actor)
        was = {f"{row.permission}": reach_of(row.reach).words for row in rows}
        moment = note_narrowed(unit.session, client, now)
        for row in rows:
            row.reach, row.narrowed_at = document(reach) or None, moment
            unit.session.add(row)
        unit.enter(
            actor,
            "consent.reach-changed",
            client_subject(client),
            now=now,
            before={"reach": was},
            after={"resource": resource.name, "permissions": sorted(permissions), "reach": reach.words},
            reason=reason,
        )
        names = {one.id: one.name for one in people.people_of(unit.session, directory.id)}
        views = [_grant_view(row, resource.name, names.get(row.person_id, "") if row.person_id else "") for row in rows]
        return views, comparison


def withdraw(
    premises: Premises,
    directory: Directory,
    client_id: str,
    resource_name: str,
    permissions: Sequence[str],
    kind: AccessKind,
    actor: Actor,
    now: datetime,
    reason: str = "",
    at: datetime | None = None,
    person: str | None = None,
) -> WithdrawnConsent:
    """End the consent to permissions of one resource, now or at a moment to come, all or none; the asks stay.

    Args:
        person: only the consents that cover this one person (delegated).

    Raises:
        NothingToWithdraw: one of them is not granted. BadInput: `at` is not to come.
    """
    check_reason(reason)
    if at is not None and at <= now:
        raise BadInput.field("at", at.isoformat(), "a moment to come", "Leave it out to end the consent now.")
    ends = at or now
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        resource = find_resource(unit.session, directory, resource_name)
        catalogue = resources.catalogues(unit.session, [resource])[resource.id]
        rows = _granted_rows(unit.session, directory, client, resource, permissions, kind, person, now)
        mine = _held(unit.session, client, resource.id)
        ending = {row.id for row in rows}
        before = holdings_in_force([one for _, one in mine], kind, now)
        after = holdings_in_force([one for row, one in mine if row not in ending], kind, now)
        comparison = compare(catalogue, before, after, resources.collections_of(unit.session, resource.id))
        moment = note_narrowed(unit.session, client, now) if at is None else None
        for row in rows:
            row.expires_at = min(ends, row.expires_at) if row.expires_at is not None else ends
            row.narrowed_at = moment or row.narrowed_at
            unit.session.add(row)
        unit.enter(
            actor,
            "consent.withdrawn" if at is None else "consent.end-set",
            client_subject(client),
            now=now,
            before={"permissions": sorted({one.permission for one in before})},
            after={
                "resource": resource.name,
                "permissions": sorted({one.permission for one in after}),
                "no longer possible": sorted(comparison.no_longer),
                **({"at": at.isoformat()} if at is not None else {}),
            },
            reason=reason,
        )
        life = timedelta(seconds=directory.policy.access_token_seconds)
        living = usage.issued_since(unit.session, client.id, resource.identifier, now - life)
        return WithdrawnConsent(
            resource.name, tuple(sorted(permissions)), comparison.no_longer, ends, ends + life, living
        )


def list_consents(premises: Premises, slug: str, client_id: str, now: datetime) -> list[GrantView]:
    """Return the consents in force of a client, those that people gave for themselves too."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client = find_client(session, directory, client_id)
        names = {one.id: one.name for one in people.people_of(session, directory.id)}
        places = {row.id: row.name for row in resources.resources_of(session, directory.id)}
        rows = [row for row in clients.grants_of(session, [client.id]) if row.held().in_force(now)]
        views = [
            _grant_view(row, places[row.resource_id], names.get(row.person_id, "") if row.person_id else "")
            for row in rows
        ]
        return sorted(views, key=lambda one: (one.resource, one.permission, one.kind, one.person))


def choose(
    session: Session,
    client: clients.ClientRow,
    ask_ids: Iterable[UUID] | None,
    now: datetime,
) -> list[clients.AskRow]:
    """Return the asks that wait for consent, or the chosen of them; an ask held by other people waits if chosen."""
    held = {
        (row.resource_id, row.permission, row.kind): row.person_id
        for row in clients.grants_of(session, [client.id])
        if _stands(row, now)
    }
    rows = clients.asks_of(session, [client.id])
    waiting = [row for row in rows if (row.resource_id, row.permission, row.kind) not in held]
    if ask_ids is None:
        return waiting
    for_some = [
        row for row in rows if held.get((row.resource_id, row.permission, row.kind)) is not None and row not in waiting
    ]
    by_id = {row.id: row for row in (*waiting, *for_some)}
    wanted = list(dict.fromkeys(ask_ids))
    missing = [str(key) for key in wanted if key not in by_id]
    if missing:
        raise NotFound(
            "An ask you chose does not wait on this client (any more).",
            violations=(Violation("asks", ", ".join(missing), "asks of this client that are not granted"),),
            next_step="Read the preview again.",
        )
    return [by_id[key] for key in wanted]


def preview_of(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    chosen: Sequence[clients.AskRow],
    terms: GrantTerms,
    now: datetime,
) -> ConsentPreview:
    """Return what granting these asks within these terms would change. Raises `BadInput` when the terms do not fit."""
    rows = {row.id: row for row in resources.resources_of(session, directory.id)}
    _check_terms(session, rows, chosen, terms, now)
    catalogues = resources.catalogues(session, rows.values())
    by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
    grants = clients.grants_of(session, [client.id])
    others = clients.others_holding(session, client.id, chosen, now)
    keys = sorted({(row.resource_id, row.kind) for row in chosen}, key=lambda key: (rows[key[0]].name, key[1]))
    places = []
    for resource_id, kind in keys:
        here = sorted(
            (row for row in chosen if (row.resource_id, row.kind) == (resource_id, kind)),
            key=lambda row: row.permission,
        )
        name = rows[resource_id].name
        held = holdings_in_force(pictures.held_at(resource_id, grants, by_role), AccessKind(kind), now)
        added = {Holding(row.permission, terms.reach_of(name, row)) for row in here}
        tree = resources.collections_of(session, resource_id)
        places.append(
            ConsentAtResource(
                catalogues[resource_id],
                AccessKind(kind),
                tuple(ask_view(row, name) for row in here),
                compare(catalogues[resource_id], held, held | added, tree),
                tuple(sorted({one.reach for one in added}, key=attrgetter("words"))),
                tuple(_others(row, others.get((row.resource_id, row.permission, row.kind), [])) for row in here),
            )
        )
    weight = round(sum(place.comparison.added_weight for place in places), 1)
    person = find_person(session, directory, terms.person).name if terms.person is not None else ""
    return ConsentPreview(
        client.id,
        client.name,
        client.purpose,
        person,
        weight,
        weight >= directory.policy.two_people_weight,
        approvers_needed(weight, directory.policy),
        tuple(sorted({row.asked_by for row in chosen})),
        tuple(places),
    )


def _check_terms(
    session: Session,
    rows: Mapping[UUID, resources.ResourceRow],
    chosen: Sequence[clients.AskRow],
    terms: GrantTerms,
    now: datetime,
) -> None:
    by_name = {row.name: row for row in rows.values()}
    for name, reach in terms.reach.items():
        if name not in by_name:
            raise BadInput.field("reach", name, "the short name of a resource that is asked for")
        check_reach(session, by_name[name], reach)
    if terms.expires_at is not None and terms.expires_at <= now:
        raise BadInput.field("expires_at", terms.expires_at.isoformat(), "a moment to come")
    itself = sorted({row.permission for row in chosen if row.kind == AccessKind.APPLICATION})
    if terms.person is not None and itself:
        allowed = "left out: the client acts as itself with " + ", ".join(itself)
        raise BadInput.field("person", terms.person, allowed, "Choose only delegated asks for one person.")


def _others(row: clients.AskRow, names: Sequence[str]) -> OtherHolders:
    return OtherHolders(row.permission, tuple(names[:OTHERS_NAMED]), len(names))


def _held(session: Session, client: clients.ClientRow, resource_id: UUID) -> list[tuple[UUID | None, HeldGrant]]:
    """Return (row of the consent, what it holds) at a resource; roles of the client come without a row."""
    found: list[tuple[UUID | None, HeldGrant]] = [
        (row.id, row.held()) for row in clients.grants_of(session, [client.id]) if row.resource_id == resource_id
    ]
    by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
    found += [(None, one) for one in pictures.held_at(resource_id, (), by_role)]
    return found


def _granted_rows(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    resource: resources.ResourceRow,
    permissions: Sequence[str],
    kind: AccessKind,
    person: str | None,
    now: datetime,
) -> list[clients.GrantRow]:
    """Return the standing consents to these permissions. Raises `NothingToWithdraw` when one is missing."""
    covered = find_person(session, directory, person).id if person is not None else None
    rows = [
        row
        for row in clients.grants_of(session, [client.id])
        if row.resource_id == resource.id
        and row.kind == kind
        and _stands(row, now)
        and (covered is None or row.person_id == covered)
    ]
    held = {row.permission for row in rows}
    missing = sorted(set(permissions) - held)
    if missing:
        raise NothingToWithdraw(
            f"“{client.name}” is not granted {', '.join(missing)} at {resource.name}.",
            violations=(Violation("permissions", ", ".join(missing), ", ".join(sorted(held)) or "nothing is granted"),),
            next_step="Look at its ladder for what it holds; what comes by a role ends with the role.",
        )
    return [row for row in rows if row.permission in permissions]


def _refuse_alone(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    resource_id: UUID,
    permissions: Sequence[str],
    weight: float,
    actor: Actor,
) -> None:
    asked_by = {
        row.asked_by_id
        for row in clients.asks_of(session, [client.id])
        if row.resource_id == resource_id and row.permission in permissions
    }
    refuse_same_person(weight, asked_by, actor.id, directory.policy)
    if approvers_needed(weight, directory.policy) > 1:
        raise SecondApprover(
            f"This adds a weight of {weight:g}: from {directory.policy.two_approvers_weight} on, two approvers decide.",
            next_step="Withdraw the consent and make a request for it with the wider reach.",
        )


def _stands(row: clients.GrantRow, now: datetime) -> bool:
    """Tell whether a grant has not ended. Its start is not looked at: whoever waited for a lock has an older `now`."""
    return row.expires_at is None or now < row.expires_at


def _grant_view(row: clients.GrantRow, resource: str, person: str) -> GrantView:
    return GrantView(
        resource,
        row.permission,
        AccessKind(row.kind),
        row.granted_at,
        row.granted_by,
        row.expires_at,
        reach_of(row.reach),
        person,
        row.by_person,
        row.id,
    )
