"""Consent: say yes or no to waiting asks within bounds, and list what was consented to."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.base.subjects import client_subject
from jamb.actions.consent.asks import ask_view, refuse_requested
from jamb.actions.consent.consent_preview import AS_ASKED, ConsentPreview, GrantTerms, choose, preview_of, refuse_beyond
from jamb.actions.directory.people import find_person
from jamb.actions.judgement.judging import adds_words, check_consent, note_addition, take_turn
from jamb.core import own_api
from jamb.core.directory.directories import Directory
from jamb.core.errors import BadInput, NothingToGrant, SecondApprover, Unsuited
from jamb.core.nearest_names import did_you_mean
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE
from jamb.core.reach.details import document, reach_of
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients
from jamb.store.consent import grants
from jamb.store.directory import people
from jamb.store.resources import resources
from jamb.wire.consent.consent import Ask, DirectoryGrant, Grant
from jamb.wire.resources.reach import Reach


def grant(
    act: Act, client_id: str, ask_ids: Iterable[UUID] | None, reason: str = "", terms: GrantTerms = AS_ASKED
) -> list[Grant]:
    """Consent to all waiting asks, or the chosen ones, in one step.

    Raises:
        NothingToGrant: nothing waits, or a chosen ask is granted already.
        NotFound: a chosen ask does not exist on this client. BadInput: the terms do not fit.
        SamePerson: too heavy for whoever asked. SecondApprover: too heavy for one approver; make a request.
    """
    check_reason(reason)
    with act.change() as unit:
        take_turn(unit)
        # The lock makes two approvers take turns, so that the second sees what the first granted.
        client = find_client(unit.session, act.directory, client_id, lock=True)
        chosen = choose(unit.session, client, ask_ids, act.now)
        seen = preview_of(unit.session, act.directory, client, chosen, terms, act.now)
        refuse_beyond(unit.session, act.directory, chosen, terms, act.now)
        asked_by = {row.asked_by_id for row in chosen}
        needed, before, alone = check_consent(
            unit.session, act.directory, client, seen.weight, asked_by, act.actor, act.now
        )
        if needed > 1 and act.actor.kind != "service":
            raise SecondApprover(
                f"{adds_words(seen.weight, before.deciding, act.directory.policy)} from "
                f"{act.directory.policy.two_approvers_weight} on, two approvers must consent.",
                next_step=f"Make a request: jamb requests make {client.id}; two approvers decide it.",
            )
        note_addition(unit, client.id, "consent", seen.weight, alone=alone)
        return enact(unit, client, chosen, seen, terms, reason)


def decline(act: Act, client_id: str, ask_ids: Iterable[UUID] | None, reason: str) -> list[Ask]:
    """Decline all waiting asks, or the chosen ones: they go, and the client's history says why.

    Raises:
        BadInput: no reason. NothingToGrant: nothing waits. NotFound: a chosen ask does not wait on this client.
        StillInUse: a request for one of them waits, which is declined itself.
    """
    check_reason(reason)
    if not reason.strip():
        raise BadInput.field("reason", "nothing", "why, for whoever asked")
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        chosen = choose(unit.session, client, ask_ids, act.now)
        if not chosen:
            raise NothingToGrant(f"“{client.name}” asks for nothing that is not granted already.")
        refuse_requested(unit, client, chosen, "Decline the request.")
        places = {row.id: row.name for row in resources.resources_of(unit.session, act.directory.id)}
        for row in chosen:
            unit.session.delete(row)
            before = {"resource": places[row.resource_id], "permission": row.permission, "kind": row.kind}
            told = {**before, "asked by": row.asked_by}
            unit.enter("ask.declined", client_subject(client), before=told, reason=reason)
        return [ask_view(row, places[row.resource_id]) for row in chosen]


def enact(
    unit: Unit,
    client: clients.ClientRow,
    chosen: Sequence[clients.AskRow],
    seen: ConsentPreview,
    terms: GrantTerms,
    reason: str,
) -> list[Grant]:
    """Grant the chosen asks within an open unit of work, as the preview said."""
    if not chosen:
        raise NothingToGrant(
            f"“{client.name}” asks for nothing that is not granted already.",
            next_step="Ask for a permission first, or look at what it has.",
        )
    person = find_person(unit.session, unit.directory, terms.person) if terms.person is not None else None
    if person is not None:
        _refuse_again(unit.session, client, chosen, person, unit.now)
    by_id = {row.id: row for row in chosen}
    rows = {row.id: row for row in resources.resources_of(unit.session, unit.directory.id)}
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
                granted_at=unit.now,
                granted_by=unit.actor.name,
                expires_at=terms.expires_at,
                reach=document(terms.reach_of(item.resource, ask)) or None,
                person_id=person.id if person is not None else None,
                revision=rows[ask.resource_id].revision,
                collections_revision=rows[ask.resource_id].collections_revision,
            )
            unit.session.add(row)
            granted.append(grant_view(row, item.resource, person.name if person is not None else ""))
        after: dict[str, object] = {
            "operations": len(place.comparison.unchanged | place.comparison.newly | place.comparison.wider),
            "resource": place.catalogue.name,
            "permissions": sorted(item.permission for item in place.asks),
            "newly possible": sorted(place.comparison.newly),
            "weight": seen.weight,
        }
        if place.kind is AccessKind.DELEGATED:
            after["kind"], after["for"] = place.kind.value, person.name if person is not None else "everyone"
        if any(reach != EVERYWHERE for reach in place.reach):
            after["reach"] = "; ".join(sorted(reach.words for reach in place.reach))
        if terms.expires_at is not None:
            after["until"] = terms.expires_at.isoformat()
        before = {"operations": len(place.comparison.unchanged | place.comparison.wider)}
        unit.enter("consent.granted", client_subject(client), before=before, after=after, reason=reason)
    return granted


def list_consents(act: Act, client_id: str) -> list[Grant]:
    """Return the consents in force of a client, those that people gave for themselves too."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        places = {row.id: row.name for row in resources.resources_of(session, act.directory.id)}
        rows = [row for row in clients.grants_of(session, [client.id]) if row.held().in_force(act.now)]
        names = people.names_of(session, (row.person_id for row in rows))
        named = _named(session, rows, {key for key, name in places.items() if name == own_api.NAME})
        views = [grant_view(row, places[row.resource_id], names[row.person_id], named) for row in rows]
        return sorted(views, key=lambda one: (one.resource, one.permission, one.kind, one.person))


def _check_named(session: Session, directory: Directory, wanted: grants.Wanted) -> None:
    """Refuse a name that nothing bears: to find nothing would say that nobody holds it."""
    if wanted.resource:
        places = [find_resource(session, directory, wanted.resource)]
    elif wanted.permission:
        places = resources.resources_of(session, directory.id)
    else:
        return
    known = {name for one in resources.catalogues(session, places).values() for name in one.permissions}
    if wanted.permission and wanted.permission not in known:
        where = wanted.resource or "a resource here"
        step = did_you_mean(wanted.permission, known, "Look through the catalogue.")
        raise Unsuited.field("permission", wanted.permission, f"a permission of {where}", step)


def list_all(
    act: Act, wanted: grants.Wanted, *, after: tuple[datetime, UUID] | None = None, limit: int = 50
) -> tuple[list[DirectoryGrant], tuple[datetime, UUID] | None, int | None]:
    """Return a page of the consents in force of the whole directory, those granted last first.

    Returns:
        Also moment and id of its last one if there are more, and how many are found in all, None for very many.

    Raises:
        NotFound: there is no such resource. BadInput: no resource that is meant has such a permission.
    """
    with act.read() as session:
        if after is None:
            _check_named(session, act.directory, wanted)
        found, total = grants.page(session, act.directory.id, wanted, act.now, after=after, limit=limit + 1)
        shown = found[:limit]
        own = {one.row.resource_id for one in shown if one.resource == own_api.NAME}
        named = _named(session, [one.row for one in shown], own)
        views = [
            DirectoryGrant(
                **dict(grant_view(one.row, one.resource, one.person, named)),
                client_id=one.row.client_id,
                client_name=one.client,
            )
            for one in shown
        ]
        more = (shown[-1].row.granted_at, shown[-1].row.id) if len(found) > limit else None
        return views, more, total


def _refuse_again(
    session: Session,
    client: clients.ClientRow,
    chosen: Sequence[clients.AskRow],
    person: people.PersonRow,
    now: datetime,
) -> None:
    """Raise `NothingToGrant` when one of these counts for the person already."""
    covered = {
        (row.resource_id, row.permission, row.kind)
        for row in clients.grants_of(session, [client.id])
        if row.person_id == person.id and row.stands(now)
    }
    again = sorted(row.permission for row in chosen if (row.resource_id, row.permission, row.kind) in covered)
    if again:
        raise NothingToGrant(
            f"{', '.join(again)} of “{client.name}” counts for {person.name} already.",
            next_step="Leave it out; its reach and its end can be changed on the consent that stands.",
        )


def _named(session: Session, rows: Iterable[clients.GrantRow], own: Collection[UUID]) -> dict[str, str]:
    """Return the names of the clients that consents at Jamb's own API are bounded to: its objects are clients."""
    reaches = [reach_of(row.reach) for row in rows if row.resource_id in own]
    ids = frozenset().union(*(reach.collections for reach in reaches))
    return clients.names_of(session, ids) if ids else {}


def grant_view(row: clients.GrantRow, resource: str, person: str, named: Mapping[str, str] | None = None) -> Grant:
    """Return a consent as it is answered. `named`: what collections that are clients are called."""
    reach = reach_of(row.reach)
    return Grant(
        resource=resource,
        permission=row.permission,
        kind=AccessKind(row.kind),
        granted_at=row.granted_at,
        granted_by=row.granted_by,
        expires_at=row.expires_at,
        reach=Reach(kind=reach.kind, collections=sorted(reach.collections), words=reach.called(named or {})),
        person=person,
        by_person=row.by_person,
        id=row.id,
    )
