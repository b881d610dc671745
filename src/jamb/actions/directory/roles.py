"""Roles: shipped and custom bundles of permissions, and who holds them where."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_reach, find_client, find_resource, note_narrowed, refuse_stewardless
from jamb.actions.directory.groups import find_group
from jamb.actions.directory.people import find_person
from jamb.actions.judgement.judging import Wanted, judge_addition, judge_power, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core.access import Holding, holdings_in_force
from jamb.core.access.powers import lasting
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.directory.roles import HolderKind, check_bundle, check_for_client, check_short_name, holds_everything
from jamb.core.errors import (
    NeedsAgreement,
    NobodyToAgree,
    NotFound,
    NothingToWithdraw,
    StillInUse,
    Unsuited,
    Violation,
    shorten,
)
from jamb.core.nearest_names import did_you_mean, listed
from jamb.core.permissions import AccessKind, Catalogue, weigh
from jamb.core.reach import Reach
from jamb.core.reach.details import document, reach_of
from jamb.store.audit.client_facts import held_at
from jamb.store.base.work import Unit
from jamb.store.clients.clients import ClientRow, grants_of
from jamb.store.directory import roles
from jamb.store.directory.people import PersonRow, people_by_id
from jamb.store.resources import resources
from jamb.wire.directory.roles import Assignment, ClientGain, Role

# Of each role in the list, and in a refusal.
HOLDERS_SHOWN, HOLDERS_NAMED = 50, 6


def list_roles(act: Act) -> list[Role]:
    with act.read() as session:
        return _views(session, act.directory, roles.roles_of(session, act.directory.id), act.now)


def list_holders(
    act: Act, name: str, *, query: str = "", after: tuple[str, str] | None = None, limit: int = 50
) -> tuple[list[Assignment], tuple[str, str] | None, int]:
    """Return a page of who holds a role: groups, people, clients, each by name; its end; how many are found in all."""
    with act.read() as session:
        role = find_role(session, act.directory, name)
        rows, total = roles.holders_page(session, role.id, act.now, query=query, after=after, limit=limit + 1)
        shown = rows[:limit]
        end = (shown[-1][1], str(shown[-1][0].held.id)) if len(rows) > limit else None
        return [_assignment_view(holder) for holder, _ in shown], end, total


def save_role(act: Act, name: str, title: str, resource_name: str, permissions: Sequence[str]) -> Role:
    """Make a custom role, or change what one bundles.

    Raises:
        BadInput: an unfit name or unknown permissions, or a shipped role. StillInUse: it is of another resource.
        TopRole: a client holds it, and it would hold everything.
        NeedsAgreement: it would let a client, or whoever changes it, do more than one person may add.
    """
    check_short_name("name", name)
    with act.change() as unit:
        take_turn(unit)
        resource = find_resource(unit.session, act.directory, resource_name)
        catalogue = resources.catalogues(unit.session, [resource])[resource.id]
        check_bundle(catalogue, permissions)
        row = roles.role_by_name(unit.session, act.directory.id, name, lock=True)
        act.expect(
            f"The role {name}",
            lambda: _views(unit.session, act.directory, [row], act.now)[0].version if row is not None else "",
        )
        before = None
        if row is None:
            row = roles.RoleRow(id=uuid4(), directory_id=act.directory.id, resource_id=resource.id, name=name)
        elif row.shipped:
            raise Unsuited.field("name", name, "not a shipped role", "Make one of your own, with another name.")
        elif row.resource_id != resource.id:
            raise StillInUse(f"The role {name} is of another resource.", next_step="Choose another name.")
        else:
            before = {"title": row.title, "permissions": list(row.permissions)}
            _judge_bundle(unit, row, title, permissions)
            _note_change(unit, catalogue, row, permissions)
        row.title, row.permissions = " ".join(title.split()), sorted(set(permissions))
        with unit.constraint("role_name_taken", lambda: StillInUse(f"The role {name} was made just now.")):
            unit.session.add(row)
        after = {"title": row.title, "resource": resource.name, "permissions": list(row.permissions)}
        action = "role.made" if before is None else "role.changed"
        unit.enter(action, _subject(row), before=before, after=after)
        unit.session.flush()
        return _views(unit.session, act.directory, [row], act.now)[0]


def remove_role(act: Act, name: str) -> None:
    """Remove a custom role that nobody holds. Raises `StillInUse`, naming who does."""
    with act.change() as unit:
        row = find_role(unit.session, act.directory, name, lock=True)
        if row.shipped:
            raise Unsuited.field("name", name, "a role of your own: shipped ones stay")
        found = _views(unit.session, act.directory, [row], act.now)[0]
        if held := found.holders:
            rest = found.holders_in_all - HOLDERS_NAMED
            more = f" and {rest} more" if rest > 0 else ""
            names = ", ".join(holder.name for holder in held[:HOLDERS_NAMED])
            raise StillInUse(
                f"{names}{more} still hold{'s' if len(held) == 1 else ''} {name}.",
                next_step="Withdraw it from them first.",
            )
        row.removed_at = act.now
        unit.session.add(row)
        unit.enter("role.removed", _subject(row), before={"permissions": list(row.permissions)})


def assign_role(
    act: Act, name: str, kind: HolderKind, holders: Sequence[str], reach: Reach, expires_at: datetime | None
) -> Role:
    """Assign a role to people, groups or clients, all or none, over any number of collections in one step.

    Who holds it already gets this reach and end instead.

    Raises:
        NotFound: a holder is not known here. TopRole: it holds everything, and a client would get it.
        NeedsAgreement: it would let a client, or whoever assigns it, do more than one person may add; it waits.
        BadInput: an unknown collection, an end in the past, or permissions that a client cannot hold as itself.
    """
    if expires_at is not None and expires_at <= act.now:
        raise Unsuited.field("expires_at", expires_at.isoformat(), "a moment to come")
    with act.change() as unit:
        take_turn(unit)
        row = find_role(unit.session, act.directory, name, lock=True)
        resource = unit.session.get_one(resources.ResourceRow, row.resource_id)
        catalogue = resources.catalogues(unit.session, [resource])[resource.id]
        check_reach(unit.session, resource, reach)
        if kind is HolderKind.CLIENT:
            check_for_client(act.directory.policy, catalogue, row.name, row.permissions)
        _judge_assigning(unit, row, kind, holders, reach, expires_at)
        for reference in dict.fromkeys(holders):
            holder_id, label = _find_holder(unit.session, act.directory, kind, reference)
            held = _assignment(unit.session, row, kind, holder_id, act.now)
            before = None
            if held is None:
                held = roles.AssignmentRow(id=uuid4(), role_id=row.id, assigned_at=act.now)
                setattr(held, f"{kind.value}_id", holder_id)
            else:
                before = {"reach": reach_of(held.reach).words, "until": _until(held.expires_at)}
                if kind is HolderKind.CLIENT:
                    held.narrowed_at = _narrowed(unit, str(holder_id))
            held.reach, held.assigned_by, held.expires_at = document(reach) or None, act.actor.name, expires_at
            unit.session.add(held)
            after = {"role": name, "to": label, "reach": reach.words, "until": _until(expires_at)}
            unit.enter("role.assigned", _assigned_subject(row, kind, holder_id, label), before=before, after=after)
        unit.session.flush()
        # Whoever runs the service makes the first steward, who cannot sign in yet.
        if act.actor.kind != "service":
            refuse_stewardless(unit.session, act.directory, act.now)
        return _views(unit.session, act.directory, [row], act.now)[0]


def preview_assignment(
    act: Act, name: str, client_ids: Sequence[str], reach: Reach, expires_at: datetime | None
) -> list[ClientGain]:
    """Return what a role would let each of these clients do that it cannot do yet. Changes nothing."""
    found = []
    with act.rehearse() as unit:
        row = find_role(unit.session, act.directory, name)
        bench = Bench(unit.session, act.directory, act.now)
        place = bench.places[row.resource_id]
        check_reach(unit.session, bench.resource_rows[row.resource_id], reach)
        given = frozenset(Holding(permission, reach) for permission in row.permissions)
        for reference in dict.fromkeys(client_ids):
            client = find_client(unit.session, act.directory, reference)
            kept = _kept(bench, client, row, expires_at, act.now)
            gained, agreement = place.compared(kept, kept | given), ""
            try:
                _judge_assigning(unit, row, HolderKind.CLIENT, [reference], reach, expires_at)
            except (NeedsAgreement, NobodyToAgree) as error:
                agreement = f"{error.message} {error.next_step}".strip()
            weight = round(place.added(kept, kept | given), 1)
            newly, wider = tuple(sorted(gained.newly)), tuple(sorted(gained.wider))
            found.append(
                ClientGain(
                    client_id=client.id, name=client.name, newly=newly, wider=wider, weight=weight, agreement=agreement
                )
            )
    return found


def withdraw_role(act: Act, name: str, kind: HolderKind, holders: Sequence[str]) -> Role:
    """Withdraw a role from its holders, all or none.

    Raises:
        NothingToWithdraw: one of them does not hold it. StillInUse: no live person would be steward any more.
    """
    with act.change() as unit:
        row = find_role(unit.session, act.directory, name, lock=True)
        for reference in dict.fromkeys(holders):
            holder_id, label = _find_holder(unit.session, act.directory, kind, reference)
            held = _assignment(unit.session, row, kind, holder_id, act.now)
            if held is None:
                raise NothingToWithdraw(f"{label} does not hold the role {name} itself.", next_step="See who holds it.")
            held.expires_at = act.now
            unit.session.add(held)
            if kind is HolderKind.CLIENT:
                held.narrowed_at = _narrowed(unit, str(holder_id))
            before = {"role": name, "from": label, "reach": reach_of(held.reach).words}
            unit.enter("role.withdrawn", _assigned_subject(row, kind, holder_id, label), before=before)
        unit.session.flush()
        refuse_stewardless(unit.session, act.directory, act.now)
        return _views(unit.session, act.directory, [row], act.now)[0]


def find_role(session: Session, directory: Directory, name: str, *, lock: bool = False) -> roles.RoleRow:
    row = roles.role_by_name(session, directory.id, name, lock=lock)
    if row is None:
        known = [role.name for role in roles.roles_of(session, directory.id)]
        raise NotFound(
            f"{directory.name} has no role “{shorten(name)}”.",
            violations=(Violation("role", shorten(name), f"one of {listed(known)}", did_you_mean(name, known, "")),),
        )
    return row


def _judge_assigning(
    unit: Unit, row: roles.RoleRow, kind: HolderKind, holders: Sequence[str], reach: Reach, expires_at: datetime | None
) -> None:
    """Judge what clients would gain, and what people as whom the actor can act would."""
    session, bench = unit.session, Bench(unit.session, unit.directory, unit.now)
    found = [_find_holder(session, unit.directory, kind, reference) for reference in dict.fromkeys(holders)]
    args = {
        "role": row.name,
        "kind": kind.value,
        "holders": sorted(label if kind is HolderKind.GROUP else str(key) for key, label in found),
        "reach": document(reach),
        "until": expires_at.isoformat() if expires_at is not None else None,
    }
    given = frozenset(Holding(name, reach) for name in row.permissions)
    for key, label in found:
        if kind is HolderKind.CLIENT:
            client = find_client(session, unit.directory, str(key), lock=True)
            weight, words = _client_gain(bench, client, row, given, expires_at, unit.now)
            why = f"“{label}” could then do more, by the role {row.name}: {words}"
            judge_addition(unit, client, weight, why, Wanted(ActKind.ROLE, f"“{label}”", args, client.id))
            continue
        wanted = Wanted(ActKind.ROLE, f"The role {row.name} for {label}", args)
        for person in _people_of(session, kind, UUID(str(key))):
            judge_power(unit, bench, person, {row.resource_id: given}, wanted, expires_at)


def _people_of(session: Session, kind: HolderKind, key: UUID) -> list[PersonRow]:
    """Return the people that a person or a group is."""
    if kind is HolderKind.PERSON:
        return people_by_id(session, [key])
    return roles.people_within(session, [key]).get(key, [])


def _client_gain(
    bench: Bench,
    client: ClientRow,
    row: roles.RoleRow,
    given: frozenset[Holding],
    until: datetime | None,
    now: datetime,
) -> tuple[float, str]:
    """Return how much a client would gain by holding these permissions until then, and what, in words."""
    place, kept = bench.places[row.resource_id], _kept(bench, client, row, until, now)
    gained = place.compared(kept, kept | given)
    names = [place.catalogue.operations[name].title for name in sorted(gained.newly | gained.wider)]
    more = f" and {len(names) - 3} more" if len(names) > 3 else ""
    return round(place.added(kept, kept | given), 1), ", ".join(f"“{name}”" for name in names[:3]) + more


def _kept(
    bench: Bench, client: ClientRow, row: roles.RoleRow, until: datetime | None, now: datetime
) -> frozenset[Holding]:
    """Return what a client holds at the role's resource otherwise, for at least as long."""
    by_role = [
        (assigned, role)
        for assigned, role in roles.roles_of_clients(bench.session, [client.id]).get(client.id, [])
        if role.id != row.id and (assigned.expires_at is None or (until is not None and assigned.expires_at >= until))
    ]
    grants = grants_of(bench.session, [client.id])
    consented = [grant.held() for grant in grants if grant.resource_id == row.resource_id]
    kept = holdings_in_force(lasting(consented, now, until), AccessKind.APPLICATION, now)
    return kept | holdings_in_force(held_at(row.resource_id, (), by_role), AccessKind.APPLICATION, now)


def _judge_bundle(unit: Unit, row: roles.RoleRow, title: str, permissions: Sequence[str]) -> None:
    """Judge a role that bundles more: for each client that holds it, and for whoever changes it."""
    if set(permissions) <= set(row.permissions):
        return
    session, bench = unit.session, Bench(unit.session, unit.directory, unit.now)
    resource = bench.resource_rows[row.resource_id]
    args = {
        "name": row.name,
        "title": " ".join(title.split()),
        "resource": resource.name,
        "permissions": sorted(set(permissions)),
    }
    wanted = Wanted(ActKind.BUNDLE, f"The role {row.name}", args)
    place = bench.places[row.resource_id]
    for holder in roles.holders_of(session, [row.id], unit.now):
        reach = reach_of(holder.held.reach)
        before = frozenset(Holding(name, reach) for name in row.permissions)
        after = frozenset(Holding(name, reach) for name in permissions)
        if holder.held.client_id is not None:
            client = find_client(session, unit.directory, holder.held.client_id, lock=True)
            weight = round(place.added(before, before | after), 1)
            why = f"“{client.name}” could then do more, by the role {row.name}"
            judge_addition(unit, client, weight, why, wanted)
            continue
        people = [holder.person] if holder.person is not None else []
        if holder.group is not None:
            people = roles.people_within(session, [holder.group.id]).get(holder.group.id, [])
        for person in people:
            judge_power(unit, bench, person, {row.resource_id: after}, wanted, holder.held.expires_at)


def _note_change(unit: Unit, catalogue: Catalogue, row: roles.RoleRow, permissions: Sequence[str]) -> None:
    """Tell guards of a role that bundles other things now, and refuse one that grew too big for its clients."""
    held = [
        holder for holder in roles.holders_of(unit.session, [row.id], unit.now) if holder.held.client_id is not None
    ]
    if held:
        check_for_client(unit.directory.policy, catalogue, row.name, permissions)
    for one in held:
        one.held.narrowed_at = _narrowed(unit, str(one.held.client_id))
        unit.session.add(one.held)


def _narrowed(unit: Unit, client_id: str) -> datetime:
    return note_narrowed(unit, unit.session.get_one(ClientRow, client_id, with_for_update=True))


def _find_holder(session: Session, directory: Directory, kind: HolderKind, reference: str) -> tuple[UUID | str, str]:
    if kind is HolderKind.PERSON:
        person = find_person(session, directory, reference)
        return person.id, person.name
    if kind is HolderKind.GROUP:
        group = find_group(session, directory, reference)
        return group.id, group.name
    client = find_client(session, directory, reference)
    return client.id, client.name


def _assignment(
    session: Session, row: roles.RoleRow, kind: HolderKind, holder_id: UUID | str, now: datetime
) -> roles.AssignmentRow | None:
    """Return the assignment that has not ended. The lock on the role keeps it the only one."""
    return roles.standing_assignment(session, row.id, f"{kind.value}_id", holder_id, now)


def _views(session: Session, directory: Directory, rows: Sequence[roles.RoleRow], now: datetime) -> list[Role]:
    places = {row.id: row for row in resources.resources_of(session, directory.id)}
    catalogues = resources.catalogues(session, places.values())
    held: dict[UUID, list[Assignment]] = {}
    first, in_all = roles.first_holders(session, [row.id for row in rows], now, HOLDERS_SHOWN)
    for holder in first:
        held.setdefault(holder.role.id, []).append(_assignment_view(holder))
    views = []
    for row in rows:
        catalogue = catalogues[row.resource_id]
        opened = catalogue.opened_by_all(row.permissions)
        views.append(
            Role(
                name=row.name,
                title=row.title,
                resource=places[row.resource_id].name,
                permissions=tuple(row.permissions),
                shipped=row.shipped,
                opens=len(opened),
                weight=weigh(catalogue, opened),
                everything=holds_everything(catalogue, row.permissions),
                holders=tuple(held.get(row.id, ())),
                holders_in_all=in_all.get(row.id, 0),
            )
        )
    return sorted(views, key=lambda view: (not view.shipped, view.resource, view.weight, view.name))


def _assignment_view(one: roles.Holder) -> Assignment:
    reach = reach_of(one.held.reach)
    kind, key, name = HolderKind.CLIENT, str(one.held.client_id), str(one.client_name)
    if one.person is not None:
        kind, key, name = HolderKind.PERSON, one.person.login, one.person.name
    elif one.group is not None:
        kind, key, name = HolderKind.GROUP, one.group.name, one.group.title or one.group.name
    return Assignment(
        kind=kind,
        id=key,
        name=name,
        reach=reach,
        assigned_at=one.held.assigned_at,
        assigned_by=one.held.assigned_by,
        expires_at=one.held.expires_at,
    )


def _until(moment: datetime | None) -> str:
    return moment.isoformat() if moment is not None else "no expiry"


def _subject(row: roles.RoleRow) -> dict[str, str]:
    return {"kind": "role", "id": str(row.id), "name": row.name}


def _assigned_subject(row: roles.RoleRow, kind: HolderKind, holder_id: UUID | str, label: str) -> dict[str, str]:
    if kind is HolderKind.CLIENT:
        return {"kind": "client", "client": str(holder_id), "name": label, "role": row.name}
    return {"kind": kind.value, "id": str(holder_id), "name": label, "role": row.name}
