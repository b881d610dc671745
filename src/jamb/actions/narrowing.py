"""Right-sizing a client at a resource: see what would do, try it out dry, put it in force, or let it be."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.asks import check_reason
from jamb.actions.clients import client_subject
from jamb.actions.premises import (
    Directory,
    Premises,
    find_client,
    find_directory,
    find_resource,
    load_one,
    note_narrowed,
)
from jamb.core.access import Comparison, Holding, compare
from jamb.core.audit.narrowing import Narrower, narrower
from jamb.core.errors import BadInput, Conflict, NotFound, StillInUse, Violation
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree
from jamb.core.reach.details import document, reach_of
from jamb.store import clients, narrowings, resources
from jamb.store.narrowings import NarrowingRow
from jamb.store.work import Actor, Unit, unit_of_work

MISSES_SHOWN = 20


@dataclass(frozen=True, slots=True)
class Miss:
    operation: str
    object: str
    calls: int
    last_at: datetime


@dataclass(frozen=True, slots=True)
class Trial:
    """A narrower grant that is tried out. `misses`: calls it would have refused since."""

    id: UUID
    client_id: str
    client_name: str
    resource: str
    after: tuple[Holding, ...]
    before: tuple[Holding, ...]
    started_at: datetime
    started_by: str
    dry_until: datetime
    missed: int
    misses: tuple[Miss, ...]


@dataclass(frozen=True, slots=True)
class Fit:
    """What a client holds at a resource beside what would do, and what is tried out already."""

    client_id: str
    client_name: str
    resource: str
    catalogue: Catalogue
    tree: CollectionTree
    proposal: Narrower | None
    comparison: Comparison | None
    why_not: str
    trial: Trial | None


def fit(premises: Premises, slug: str, client_id: str, resource_name: str, now: datetime) -> Fit:
    """Return the smallest grant that fits a client's use of one resource, beside what it holds. Changes nothing."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        client = find_client(session, directory, client_id)
        resource = find_resource(session, directory, resource_name)
        picture = load_one(session, directory, client, now).picture
        place = next((one for one in picture.resources if one.catalogue.name == resource.name), None)
        found = narrower(place, directory.policy, now) if place is not None else None
        catalogue = resources.catalogues(session, [resource])[resource.id]
        tree = resources.trees(session, [resource])[resource.id]
        comparison = None
        if found is not None:
            comparison = compare(catalogue, (*found.held, *found.kept), (*found.after, *found.kept), tree)
        row = narrowings.running(session, client.id, resource.id)
        why = "" if found is not None else _why_not(directory, place is not None)
        trial = _trial(session, row, client.name, resource.name) if row is not None else None
        return Fit(client.id, client.name, resource.name, catalogue, tree, found, comparison, why, trial)


def try_out(
    premises: Premises,
    directory: Directory,
    client_id: str,
    resource_name: str,
    days: int | None,
    reason: str,
    actor: Actor,
    now: datetime,
) -> Trial:
    """Begin to count what the proposed grant would refuse; nothing is refused by it.

    Raises:
        NotFound: nothing smaller is known to do. Conflict: something is tried out there already.
    """
    check_reason(reason)
    wanted = directory.policy.dry_days if days is None else days
    if not 0 <= wanted <= directory.policy.use_counts_days:
        raise BadInput.field("days", wanted, f"0 to {directory.policy.use_counts_days}, which is how long a use counts")
    proposal = fit(premises, directory.slug, client_id, resource_name, now).proposal
    if proposal is None:
        raise NotFound("Nothing smaller is known to do.", next_step="Look again once there is more use to judge by.")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        resource = find_resource(unit.session, directory, resource_name)
        row = NarrowingRow(
            id=uuid4(), client_id=client.id, resource_id=resource.id, permissions=list(proposal.permissions),
            reach=document(proposal.reach) or None,
            replaces=[{"permission": one.permission, "reach": document(one.reach) or None} for one in proposal.held],
            started_at=now, started_by=actor.name, dry_until=now + timedelta(days=wanted), reason=reason,
        )  # fmt: skip
        with unit.constraint("narrowing_once", _tried_already):
            unit.session.add(row)
        unit.enter(
            actor, "narrowing.begun", client_subject(client), now=now, before={"held": _words(row.before())},
            after={"resource": resource.name, "tried out": _words(row.after()), "until": row.dry_until.isoformat()},
            reason=reason,
        )  # fmt: skip
        unit.session.flush()
        return _trial(unit.session, row, client.name, resource.name)


def drop(
    premises: Premises,
    directory: Directory,
    client_id: str,
    resource_name: str,
    reason: str,
    actor: Actor,
    now: datetime,
) -> Trial:
    """Stop trying out. Raises `NotFound` where nothing is tried out."""
    check_reason(reason)
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client, resource, row = _running(unit, directory, client_id, resource_name)
        _end(unit, row, "dropped", actor, now)
        unit.enter(
            actor, "narrowing.dropped", client_subject(client), now=now,
            after={"resource": resource.name, "stays": _words(row.before())}, reason=reason,
        )  # fmt: skip
        return _trial(unit.session, row, client.name, resource.name)


def enforce(
    premises: Premises,
    directory: Directory,
    client_id: str,
    resource_name: str,
    reason: str,
    actor: Actor,
    now: datetime,
    *,
    force: bool = False,
) -> Trial:
    """Put what was tried out in place of what is held, in one step; the asks follow. It only ever takes away.

    Args:
        force: although the dry period is not over, or something was missed.

    Raises:
        StillInUse: with what would be refused, or since when it is tried out. Conflict: what is held has changed since.
    """
    check_reason(reason)
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client, resource, row = _running(unit, directory, client_id, resource_name)
        missed = narrowings.misses_of(unit.session, row.id, MISSES_SHOWN)
        if not force:
            _refuse_early(row, missed, now)
        moment = note_narrowed(unit.session, client, now)
        standing = {
            grant.permission: grant
            for grant in clients.grants_of(unit.session, [client.id])
            if grant.resource_id == resource.id and grant.kind == AccessKind.APPLICATION and grant.stands(now)
        }
        replaced = {one["permission"] for one in row.replaces}
        _check_still_fits(unit.session, client, resource, row, standing)
        for name in replaced - set(row.permissions):
            standing[name].expires_at, standing[name].narrowed_at = now, moment
            unit.session.add(standing[name])
        asked = {
            one.permission: one
            for one in clients.asks_of(unit.session, [client.id])
            if one.resource_id == resource.id and one.kind == AccessKind.APPLICATION
        }
        for name in row.permissions:
            grant = standing.get(name)
            if grant is None:
                grant = clients.GrantRow(
                    id=uuid4(), client_id=client.id, resource_id=resource.id, permission=name,
                    kind=AccessKind.APPLICATION.value, granted_at=now, granted_by=actor.name,
                )  # fmt: skip
            grant.reach, grant.narrowed_at = row.reach, moment if name in standing else None
            unit.session.add(grant)
            if name not in asked:
                unit.session.add(
                    clients.AskRow(
                        id=uuid4(), client_id=client.id, resource_id=resource.id, permission=name,
                        kind=AccessKind.APPLICATION.value, reason=reason or "Fits what it does", asked_at=now,
                        asked_by=actor.name, asked_by_id=actor.id, reach=row.reach,
                    )
                )  # fmt: skip
        for name in replaced - set(row.permissions):
            if name in asked:
                unit.session.delete(asked[name])
        _end(unit, row, "enforced", actor, now)
        unit.enter(
            actor, "narrowing.enforced", client_subject(client), now=now,
            before={"held": _words(row.before())},
            after={"resource": resource.name, "holds": _words(row.after()), "missed": sum(one.calls for one in missed)},
            reason=reason,
        )  # fmt: skip
        unit.session.flush()
        return _trial(unit.session, row, client.name, resource.name)


def list_trials(premises: Premises, slug: str, limit: int) -> list[Trial]:
    """Return what is tried out in a directory, oldest first."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        places = {row.id: row.name for row in resources.resources_of(session, directory.id)}
        return [
            _trial(session, row, name, places[row.resource_id])
            for row, name, _ in narrowings.running_in(session, directory.id, limit)
        ]


def _check_still_fits(
    session: Session,
    client: clients.ClientRow,
    resource: resources.ResourceRow,
    row: NarrowingRow,
    standing: Mapping[str, clients.GrantRow],
) -> None:
    """Refuse what was tried out where what is held has changed, or where it would give what is not held."""
    again = "Drop this, look at the proposal again, and try that out."
    for one in row.replaces:
        name = one["permission"]
        if name not in standing or reach_of(standing[name].reach) != reach_of(one["reach"]):
            raise Conflict(f"What “{client.name}” holds at {resource.name} has changed since: {name}.", next_step=again)
    catalogue, tree = resources.catalogues(session, [resource]), resources.trees(session, [resource])
    gives = compare(catalogue[resource.id], row.before(), row.after(), tree[resource.id])
    further = ", ".join(sorted(gives.newly | gives.wider))
    if further:
        raise Conflict(f"{resource.name} has changed since: it would now open {further} further.", next_step=again)


def _refuse_early(row: NarrowingRow, missed: list[narrowings.NarrowingMissRow], now: datetime) -> None:
    if missed:
        told = ", ".join(f"{one.operation} {one.object} ({one.calls} times)".replace("  ", " ") for one in missed[:5])
        raise StillInUse(
            f"It would refuse what is done: {told}.",
            violations=tuple(
                Violation("misses", f"{one.operation} {one.object}".strip(), "nothing missed") for one in missed[:5]
            ),
            next_step="Drop it and look at the proposal again, which knows of this; or force it.",
        )
    if now < row.dry_until:
        raise StillInUse(
            f"It is tried out until {row.dry_until:%Y-%m-%d %H:%M} UTC; nothing was missed so far.",
            next_step="Wait, or force it.",
        )


def _running(
    unit: Unit, directory: Directory, client_id: str, resource_name: str
) -> tuple[clients.ClientRow, resources.ResourceRow, NarrowingRow]:
    client = find_client(unit.session, directory, client_id, lock=True)
    resource = find_resource(unit.session, directory, resource_name)
    row = narrowings.running(unit.session, client.id, resource.id, lock=True)
    if row is None:
        raise NotFound(
            f"Nothing is tried out for “{client.name}” at {resource.name}.", next_step="Try the proposal out first."
        )
    return client, resource, row


def _end(unit: Unit, row: NarrowingRow, outcome: str, actor: Actor, now: datetime) -> None:
    row.ended_at, row.ended_by, row.outcome = now, actor.name, outcome
    unit.session.add(row)


def _trial(session: Session, row: NarrowingRow, client_name: str, resource: str) -> Trial:
    rows = narrowings.misses_of(session, row.id, 1000)
    return Trial(
        row.id, row.client_id, client_name, resource, row.after(), row.before(), row.started_at, row.started_by,
        row.dry_until, sum(one.calls for one in rows),
        tuple(Miss(one.operation, one.object, one.calls, one.last_at) for one in rows[:MISSES_SHOWN]),
    )  # fmt: skip


def _words(held: tuple[Holding, ...]) -> list[str]:
    return sorted(f"{one.permission} {one.reach.words}" for one in held) or ["nothing"]


def _why_not(directory: Directory, known: bool) -> str:
    if not known:
        return "It asks for nothing and holds nothing there."
    return (
        f"Nothing smaller would do for what it did, or there is not enough to judge by: grants are judged after "
        f"{directory.policy.observation_days} days."
    )


def _tried_already() -> Conflict:
    return Conflict("Something is tried out there already.", next_step="Enforce or drop that first.")
