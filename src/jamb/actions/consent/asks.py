"""Asks: say what a client needs, one permission or a whole list, and take an ask back. An ask opens nothing."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_reach, find_client, find_resource
from jamb.actions.base.subjects import client_subject
from jamb.core.consent.asks import CheckedList, check_list, implied_by
from jamb.core.directory.directories import Directory
from jamb.core.errors import AlreadyAsked, NotFound, StillInUse, Unsuited, Violation, shorten
from jamb.core.nearest_names import as_written, did_you_mean, listed
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Reach
from jamb.core.reach.details import document, reach_of
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients
from jamb.store.consent import requests
from jamb.store.resources import resources
from jamb.wire.consent.consent import Ask


def ask(
    act: Act,
    client_id: str,
    resource_name: str,
    permissions: Sequence[str],
    kind: AccessKind,
    reason: str,
    reach: Reach = EVERYWHERE,
) -> list[Ask]:
    """Ask for permissions of one resource, all or none.

    Raises:
        NotFound: no such client or resource. BadInput: unknown permissions or collections, or not of this kind.
        AlreadyAsked: one of them is asked already.
    """
    check_reason(reason)
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id)
        return add_asks(unit, client, resource_name, permissions, kind, reach, reason)


def add_asks(
    unit: Unit,
    client: clients.ClientRow,
    resource_name: str,
    permissions: Sequence[str],
    kind: AccessKind,
    reach: Reach,
    reason: str,
) -> list[Ask]:
    """Add asks within an open unit of work."""
    resource = find_resource(unit.session, unit.directory, resource_name)
    catalogue = resources.catalogues(unit.session, [resource])[resource.id]
    permissions = [as_written(name, catalogue.permissions) for name in permissions]
    _check_permissions(catalogue, permissions, kind)
    check_reach(unit.session, resource, reach)
    beside = _beside(unit.session, client, resource, kind) | set(permissions)
    asked = []
    for permission in permissions:
        row = clients.AskRow(
            id=uuid4(),
            client_id=client.id,
            resource_id=resource.id,
            permission=permission,
            kind=kind.value,
            reason=" ".join(reason.split()),
            asked_at=unit.now,
            asked_by=unit.actor.name,
            asked_by_id=unit.actor.id,
            reach=document(reach) or None,
        )
        with unit.constraint("already_asked", _asked_already(client.name, permission)):
            unit.session.add(row)
        asked.append(ask_view(row, resource.name, implied_by(catalogue, permission, beside)))
    after: dict[str, object] = {"resource": resource.name, "permissions": sorted(permissions), "kind": kind.value}
    if reach != EVERYWHERE:
        after["reach"] = reach.words
    unit.enter("permission.asked", client_subject(client), after=after, reason=reason)
    return asked


def check(act: Act, client_id: str, text: str, kind: AccessKind) -> CheckedList:
    """Say of a pasted list what is known, what comes along anyway and what is heavy. Saves nothing."""
    with act.read() as session:
        return _checked(session, act.directory, find_client(session, act.directory, client_id), text, kind)


def ask_list(act: Act, client_id: str, text: str, kind: AccessKind, reason: str) -> list[Ask]:
    """Ask for what a pasted list needs, all or none; what another of it implies, or is asked already, is left out.

    Raises:
        BadInput: a name is unknown or unclear, or nothing would be asked.
    """
    check_reason(reason)
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id)
        found = _checked(unit.session, act.directory, client, text, kind)
        if found.unknown or found.unclear:
            violations = [Violation("list", word, "a permission of a resource here") for word in found.unknown]
            violations += [Violation("list", word, reason) for word, reason in found.unclear]
            raise Unsuited("The list has names that cannot be asked as they are.", violations=tuple(violations[:20]))
        needed = [one for one in found.asks if one.needed]
        if not needed:
            raise Unsuited.field("list", f"{len(found.asks)} permissions", "at least one that is not there already")
        groups: dict[tuple[str, AccessKind], list[str]] = {}
        for one in needed:
            groups.setdefault((one.resource, one.kind), []).append(one.permission)
        asked: list[Ask] = []
        for (resource, said), names in groups.items():
            asked += add_asks(unit, client, resource, names, said, EVERYWHERE, reason)
        return asked


def drop_ask(act: Act, client_id: str, ask_id: UUID) -> Ask:
    """Take an ask back. A grant of the same permission stays; it shows as granted without being asked.

    Raises:
        NotFound: no such ask on this client. StillInUse: a request for it waits; take that back first.
    """
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        row = unit.session.get(clients.AskRow, ask_id)
        if row is None or row.client_id != client.id:
            raise NotFound(f"“{client.name}” has no such ask.", next_step="Read its dossier again.")
        resource = unit.session.get_one(resources.ResourceRow, row.resource_id)
        view = ask_view(row, resource.name)
        drop_in(unit, client, row)
        return view


def drop_in(unit: Unit, client: clients.ClientRow, row: clients.AskRow) -> None:
    """Take an ask back within a unit. Raises `StillInUse`: a request for it waits."""
    refuse_requested(unit, client, [row], "Take the request back first.")
    resource = unit.session.get_one(resources.ResourceRow, row.resource_id)
    unit.session.delete(row)
    before = {"resource": resource.name, "permission": row.permission, "kind": row.kind}
    unit.enter("ask.dropped", client_subject(client), before=before)


def refuse_requested(unit: Unit, client: clients.ClientRow, rows: Iterable[clients.AskRow], next_step: str) -> None:
    """Raise `StillInUse` where a request for one of these asks waits for a decision."""
    waiting = requests.waiting_for(unit.session, client.id, unit.now)
    requested = {key for request in waiting for key in request.ask_ids}
    names = [row.permission for row in rows if row.id in requested]
    if names:
        raise StillInUse(f"A request for {names[0]} waits for a decision.", next_step=next_step)


def ask_view(row: clients.AskRow, resource: str, implied: str = "") -> Ask:
    return Ask(
        id=row.id,
        resource=resource,
        permission=row.permission,
        kind=AccessKind(row.kind),
        reason=row.reason,
        asked_at=row.asked_at,
        asked_by=row.asked_by,
        reach=reach_of(row.reach),
        implied_by=implied,
    )


def _checked(
    session: Session, directory: Directory, client: clients.ClientRow, text: str, kind: AccessKind
) -> CheckedList:
    rows = {row.id: row for row in resources.resources_of(session, directory.id)}
    catalogues = resources.catalogues(session, rows.values())

    def by_place(found: Iterable[clients.AskRow | clients.GrantRow]) -> dict[tuple[str, AccessKind], frozenset[str]]:
        places: dict[tuple[str, AccessKind], set[str]] = {}
        for one in found:
            places.setdefault((rows[one.resource_id].name, AccessKind(one.kind)), set()).add(one.permission)
        return {key: frozenset(names) for key, names in places.items()}

    asked = by_place(clients.asks_of(session, [client.id]))
    held = by_place(clients.grants_of(session, [client.id]))
    return check_list(text, catalogues.values(), kind, asked, held)


def _beside(session: Session, client: clients.ClientRow, resource: resources.ResourceRow, kind: AccessKind) -> set[str]:
    found: list[clients.AskRow | clients.GrantRow] = [*clients.asks_of(session, [client.id])]
    found += clients.grants_of(session, [client.id])
    return {one.permission for one in found if one.resource_id == resource.id and one.kind == kind}


def _check_permissions(catalogue: Catalogue, permissions: Sequence[str], kind: AccessKind) -> None:
    violations = []
    if not permissions:
        violations.append(Violation("permissions", "nothing", "at least one permission"))
    if len(set(permissions)) < len(permissions):
        violations.append(Violation("permissions", "a name twice", "each permission once", "Leave out the second."))
    for name in permissions:
        violations += permission_faults(catalogue, name, kind, "permissions", "kind")
    if violations:
        raise Unsuited("These permissions cannot be asked as they are.", violations=tuple(violations))


def permission_faults(
    catalogue: Catalogue, name: str, kind: AccessKind, field: str, kind_field: str
) -> Iterable[Violation]:
    """Yield what is wrong with asking for a permission of a resource, under the fields in which it was sent."""
    if name not in catalogue.permissions:
        allowed = f"a permission of {catalogue.name}: {listed(catalogue.permissions)}"
        yield Violation(
            field,
            shorten(name),
            allowed,
            did_you_mean(name, catalogue.permissions, "Look through the catalogue."),
        )
    elif kind not in catalogue.permissions[name].kinds:
        kinds = " or ".join(sorted(catalogue.permissions[name].kinds))
        yield Violation(kind_field, kind.value, f"{name} can be held as {kinds}")


def _asked_already(client_name: str, permission: str) -> Callable[[], AlreadyAsked]:
    return lambda: AlreadyAsked(
        f"“{client_name}” asks for {permission} already.",
        violations=(Violation("permissions", permission, "a permission not asked yet"),),
        next_step="Nothing to do: have an approver consent to it if it is not granted.",
    )
