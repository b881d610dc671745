"""Asks and consent: say what a client needs, see what a yes would make possible, say yes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.clients import client_subject
from jamb.actions.premises import Directory, Premises, find_client, find_directory, find_resource
from jamb.core.access import Comparison, compare, permissions_in_force
from jamb.core.errors import AlreadyAsked, BadInput, NotFound, NothingToGrant, NothingToWithdraw, Violation, shorten
from jamb.core.permissions import AccessKind, Catalogue
from jamb.store import clients, resources
from jamb.store.work import Actor, unit_of_work

REASON_LONGEST = 500


@dataclass(frozen=True, slots=True)
class AskView:
    id: UUID
    resource: str
    permission: str
    kind: AccessKind
    reason: str
    asked_at: datetime
    asked_by: str


@dataclass(frozen=True, slots=True)
class ConsentAtResource:
    """What consent to some asks of one resource would change there."""

    catalogue: Catalogue
    asks: tuple[AskView, ...]
    comparison: Comparison


@dataclass(frozen=True, slots=True)
class ConsentPreview:
    client_id: str
    client_name: str
    purpose: str
    resources: tuple[ConsentAtResource, ...]


@dataclass(frozen=True, slots=True)
class GrantView:
    resource: str
    permission: str
    kind: AccessKind
    granted_at: datetime
    granted_by: str


@dataclass(frozen=True, slots=True)
class WithdrawnConsent:
    """What was ended, what is no longer possible by it, and when the last token from before runs out."""

    resource: str
    permissions: tuple[str, ...]
    no_longer: frozenset[str]
    tokens_until: datetime


def ask(
    premises: Premises,
    directory: Directory,
    client_id: str,
    resource_name: str,
    permissions: Sequence[str],
    kind: AccessKind,
    reason: str,
    actor: Actor,
    now: datetime,
) -> list[AskView]:
    """Ask for permissions of one resource, all or none.

    Raises:
        NotFound: no such client or resource. BadInput: unknown permissions, or not of this kind; all are named.
        AlreadyAsked: one of them is asked already.
    """
    if len(reason) > REASON_LONGEST:
        raise BadInput.field("reason", f"{len(reason)} characters", f"at most {REASON_LONGEST} characters")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id)
        resource = find_resource(unit.session, directory, resource_name)
        catalogue = resources.catalogues(unit.session, [resource])[resource.id]
        _check_permissions(catalogue, permissions, kind)
        asked = []
        for permission in permissions:
            row = clients.AskRow(
                id=uuid4(),
                client_id=client.id,
                resource_id=resource.id,
                permission=permission,
                kind=kind.value,
                reason=" ".join(reason.split()),
                asked_at=now,
                asked_by=actor.name,
            )
            with unit.constraint("already_asked", _asked_already(client.name, permission)):
                unit.session.add(row)
            asked.append(_ask_view(row, resource.name))
        unit.enter(
            actor,
            "permission.asked",
            client_subject(client),
            now=now,
            after={"resource": resource.name, "permissions": sorted(permissions), "kind": kind.value},
            reason=reason,
        )
        return asked


def preview(
    premises: Premises, slug: str, client_id: str, now: datetime, ask_ids: Iterable[UUID] | None = None
) -> ConsentPreview:
    """Return what consent to the waiting asks (or the chosen of them) would make possible; may be empty."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client = find_client(session, directory, client_id)
        chosen = _choose(_waiting(session, client, now), ask_ids)
        return _preview(session, directory, client, chosen, now)


def grant(
    premises: Premises,
    directory: Directory,
    client_id: str,
    ask_ids: Iterable[UUID] | None,
    actor: Actor,
    now: datetime,
    reason: str = "",
) -> list[GrantView]:
    """Consent to all waiting asks, or the chosen ones, in one step.

    Raises:
        NothingToGrant: nothing waits, or a chosen ask is granted already.
        NotFound: a chosen ask does not exist on this client.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        # The lock makes two approvers take turns, so that the second sees what the first granted.
        client = find_client(unit.session, directory, client_id, lock=True)
        chosen = _choose(_waiting(unit.session, client, now), ask_ids)
        if not chosen:
            raise NothingToGrant(
                f"“{client.name}” asks for nothing that is not granted already.",
                next_step="Ask for a permission first, or look at what it has.",
            )
        seen = _preview(unit.session, directory, client, chosen, now)
        granted = []
        for place in seen.resources:
            for item in place.asks:
                resource_id = next(row.resource_id for row in chosen if row.id == item.id)
                row = clients.GrantRow(
                    id=uuid4(),
                    client_id=client.id,
                    resource_id=resource_id,
                    permission=item.permission,
                    kind=item.kind.value,
                    granted_at=now,
                    granted_by=actor.name,
                )
                unit.session.add(row)
                granted.append(GrantView(item.resource, item.permission, item.kind, now, actor.name))
            unit.enter(
                actor,
                "consent.granted",
                client_subject(client),
                now=now,
                before={"operations": len(place.comparison.unchanged)},
                after={
                    "operations": len(place.comparison.unchanged | place.comparison.newly),
                    "resource": place.catalogue.name,
                    "permissions": sorted(item.permission for item in place.asks),
                    "newly possible": sorted(place.comparison.newly),
                },
                reason=reason,
            )
        return granted


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
) -> WithdrawnConsent:
    """End the consent to permissions of one resource now, all or none; the asks stay.

    Tokens fetched before live on until they run out, at most the policy's life of a token.

    Raises:
        NothingToWithdraw: one of them is not granted.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        resource = find_resource(unit.session, directory, resource_name)
        catalogue = resources.catalogues(unit.session, [resource])[resource.id]
        rows = [
            row
            for row in clients.grants_of(unit.session, [client.id])
            if row.resource_id == resource.id and row.kind == kind and _stands(row, now)
        ]
        held = {row.permission for row in rows}
        missing = sorted(set(permissions) - held)
        if missing:
            raise NothingToWithdraw(
                f"“{client.name}” is not granted {', '.join(missing)} at {resource.name}.",
                violations=(
                    Violation("permissions", ", ".join(missing), ", ".join(sorted(held)) or "nothing is granted"),
                ),
                next_step="Look at its ladder for what it holds.",
            )
        for row in rows:
            if row.permission in permissions:
                row.expires_at = now
                unit.session.add(row)
        comparison = compare(catalogue, held, held - set(permissions))
        unit.enter(
            actor,
            "consent.withdrawn",
            client_subject(client),
            now=now,
            before={"permissions": sorted(held)},
            after={
                "resource": resource.name,
                "permissions": sorted(held - set(permissions)),
                "no longer possible": sorted(comparison.no_longer),
            },
            reason=reason,
        )
        last_token = now + timedelta(seconds=directory.policy.access_token_seconds)
        return WithdrawnConsent(resource.name, tuple(sorted(permissions)), comparison.no_longer, last_token)


def _stands(row: clients.GrantRow, now: datetime) -> bool:
    """Tell whether a grant has not ended. Its start is not looked at: whoever waited for a lock has an older `now`."""
    return row.expires_at is None or now < row.expires_at


def _check_permissions(catalogue: Catalogue, permissions: Sequence[str], kind: AccessKind) -> None:
    violations = []
    if not permissions:
        violations.append(Violation("permissions", "nothing", "at least one permission"))
    if len(set(permissions)) < len(permissions):
        violations.append(Violation("permissions", "a name twice", "each permission once", "Leave out the second."))
    for name in permissions:
        if name not in catalogue.permissions:
            known = ", ".join(sorted(catalogue.permissions))
            violations.append(
                Violation(
                    "permissions",
                    shorten(name),
                    f"a permission of {catalogue.name}: {known}",
                    "Look through the catalogue.",
                )
            )
        elif kind not in catalogue.permissions[name].kinds:
            kinds = " or ".join(sorted(catalogue.permissions[name].kinds))
            violations.append(Violation("kind", kind.value, f"{name} can be held as {kinds}"))
    if violations:
        raise BadInput("These permissions cannot be asked as they are.", violations=tuple(violations))


def _asked_already(client_name: str, permission: str) -> Callable[[], AlreadyAsked]:
    return lambda: AlreadyAsked(
        f"“{client_name}” asks for {permission} already.",
        violations=(Violation("permissions", permission, "a permission not asked yet"),),
        next_step="Nothing to do: have an approver consent to it if it is not granted.",
    )


def _waiting(session: Session, client: clients.ClientRow, now: datetime) -> list[clients.AskRow]:
    held = {
        (row.resource_id, row.permission, row.kind)
        for row in clients.grants_of(session, [client.id])
        if _stands(row, now)
    }
    rows = clients.asks_of(session, [client.id])
    return [row for row in rows if (row.resource_id, row.permission, row.kind) not in held]


def _choose(waiting: list[clients.AskRow], ask_ids: Iterable[UUID] | None) -> list[clients.AskRow]:
    if ask_ids is None:
        return waiting
    by_id = {row.id: row for row in waiting}
    wanted = list(dict.fromkeys(ask_ids))
    missing = [str(key) for key in wanted if key not in by_id]
    if missing:
        raise NotFound(
            "An ask you chose does not wait on this client (any more).",
            violations=(Violation("asks", ", ".join(missing), "asks of this client that are not granted"),),
            next_step="Read the preview again.",
        )
    return [by_id[key] for key in wanted]


def _preview(
    session: Session, directory: Directory, client: clients.ClientRow, chosen: list[clients.AskRow], now: datetime
) -> ConsentPreview:
    rows = {row.id: row for row in resources.resources_of(session, directory.id)}
    catalogues = resources.catalogues(session, rows.values())
    grants = clients.grants_of(session, [client.id])
    places = []
    for resource_id in sorted({row.resource_id for row in chosen}, key=lambda key: rows[key].name):
        here = [row for row in chosen if row.resource_id == resource_id]
        held_here = [row.held() for row in grants if row.resource_id == resource_id]
        before = frozenset().union(*(permissions_in_force(held_here, kind, now) for kind in AccessKind))
        comparison = compare(catalogues[resource_id], before, before | {row.permission for row in here})
        asks = tuple(_ask_view(row, rows[resource_id].name) for row in sorted(here, key=lambda row: row.permission))
        places.append(ConsentAtResource(catalogues[resource_id], asks, comparison))
    return ConsentPreview(client.id, client.name, client.purpose, tuple(places))


def _ask_view(row: clients.AskRow, resource: str) -> AskView:
    return AskView(row.id, resource, row.permission, AccessKind(row.kind), row.reason, row.asked_at, row.asked_by)
