"""Right-sizing a client at a resource: try what would do in a dry run, have it put in force, or let it be."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource, note_narrowed
from jamb.actions.base.subjects import client_subject
from jamb.actions.consent.rightsizing import MISSES_SHOWN, DryRun, dry_run_of, propose
from jamb.core.access import Holding, compare
from jamb.core.access.powers import Place
from jamb.core.audit.rightsizing import SmallerGrant
from jamb.core.consent.requests import RequestState
from jamb.core.errors import AlreadyAsked, Conflict, NotFound, StillInUse, Unsuited, Violation
from jamb.core.permissions import AccessKind
from jamb.core.reach.details import document, reach_of
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients
from jamb.store.consent import dry_runs, requests
from jamb.store.consent.dry_runs import DryRunRow
from jamb.store.resources import resources


def start(act: Act, client_id: str, resource_name: str, days: int | None, reason: str) -> DryRun:
    """Begin to count what the proposed grant would refuse; nothing is refused by it.

    Raises:
        NotFound: nothing smaller is known to do. Conflict: something is in a dry run there already.
    """
    check_reason(reason)
    proposal = propose(act, client_id, resource_name).proposal
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        resource = find_resource(unit.session, act.directory, resource_name)
        row = _begin(unit, client, resource, proposal, days, reason)
        return dry_run_of(unit.session, row, client.name, resource.name)


def request(act: Act, client_id: str, resource_name: str, days: int | None, reason: str) -> UUID:
    """Ask an approver to put in force what is in a dry run, beginning the dry run if need be; return the request's
    id.

    It waits until the dry run is over, and for as long after that as requests wait.

    Raises:
        BadInput: no reason. NotFound: nothing smaller is known to do. AlreadyAsked: such a request waits.
    """
    check_reason(reason)
    if not reason.strip():
        raise Unsuited.field("reason", "nothing", "why less would do, for whoever decides")
    proposal = propose(act, client_id, resource_name).proposal
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        resource = find_resource(unit.session, act.directory, resource_name)
        row = dry_runs.running(unit.session, client.id, resource.id, lock=True)
        if row is None:
            row = _begin(unit, client, resource, proposal, days, reason)
        for waiting in requests.waiting_for_dry_run(unit.session, row.id, act.now):
            raise AlreadyAsked(
                f"A request to put it in force waits already, until {waiting.due_at:%Y-%m-%d}.",
                next_step="Wait for the decision, or take that request back.",
            )
        due = max(act.now, row.dry_run_until) + timedelta(days=act.directory.policy.request_days)
        asked = requests.RequestRow(
            id=uuid4(),
            directory_id=act.directory.id,
            client_id=client.id,
            ask_ids=[],
            dry_run_id=row.id,
            requested_by_id=act.actor.id,
            requested_by=act.actor.name,
            requested_at=act.now,
            due_at=due,
            reason=" ".join(reason.split()),
            questions=[],
            answers=[],
            weight=0,
            state=RequestState.WAITING.value,
        )
        unit.session.add(asked)
        unit.enter(
            "rightsizing.requested",
            client_subject(client),
            before={"held": _words(row.before())},
            after={"resource": resource.name, "instead": _words(row.after()), "due": due.isoformat()},
            reason=reason,
        )
        unit.session.flush()
        return asked.id


def _begin(
    unit: Unit,
    client: clients.ClientRow,
    resource: resources.ResourceRow,
    proposal: SmallerGrant | None,
    days: int | None,
    reason: str,
) -> DryRunRow:
    if proposal is None:
        raise NotFound("Nothing smaller is known to do.", next_step="Look again once there is more use to judge by.")
    wanted = unit.directory.policy.dry_run_days if days is None else days
    if not 0 <= wanted <= unit.directory.policy.use_counts_days:
        raise Unsuited.field(
            "days", wanted, f"0 to {unit.directory.policy.use_counts_days}, which is how long a use counts"
        )
    row = DryRunRow(
        id=uuid4(),
        client_id=client.id,
        resource_id=resource.id,
        permissions=list(proposal.permissions),
        reach=document(proposal.reach) or None,
        replaces=[{"permission": one.permission, "reach": document(one.reach) or None} for one in proposal.held],
        started_at=unit.now,
        started_by=unit.actor.name,
        dry_run_until=unit.now + timedelta(days=wanted),
        reason=reason,
    )
    with unit.constraint("dry_run_once", _tried_already):
        unit.session.add(row)
    unit.enter(
        "dry-run.started",
        client_subject(client),
        before={"held": _words(row.before())},
        after={"resource": resource.name, "dry run": _words(row.after()), "until": row.dry_run_until.isoformat()},
        reason=reason,
    )
    unit.session.flush()
    return row


def drop(act: Act, client_id: str, resource_name: str, reason: str) -> DryRun:
    """End a dry run. Raises `NotFound` where nothing is in a dry run."""
    check_reason(reason)
    with act.change() as unit:
        client, resource, row, asked = _running(unit, client_id, resource_name)
        _end(unit, row, "dropped")
        _settle(unit, asked, RequestState.WITHDRAWN)
        unit.enter(
            "dry-run.ended",
            client_subject(client),
            after={"resource": resource.name, "stays": _words(row.before())},
            reason=reason,
        )
        return dry_run_of(unit.session, row, client.name, resource.name)


def enforce(act: Act, client_id: str, resource_name: str, reason: str, *, force: bool = False) -> DryRun:
    """Put what was in a dry run in place of what is held, in one step; the asks follow. It only ever takes away.

    Args:
        force: although the dry run is not over, or something was missed.

    Raises:
        StillInUse: with what would be refused, or since when it is in a dry run. Conflict: what is held has changed
        since.
    """
    check_reason(reason)
    with act.change() as unit:
        client, resource, row, asked = _running(unit, client_id, resource_name)
        put_in_force(unit, client, resource, row, reason, force=force)
        _settle(unit, asked, RequestState.GRANTED)
        return dry_run_of(unit.session, row, client.name, resource.name)


def put_in_force(
    unit: Unit,
    client: clients.ClientRow,
    resource: resources.ResourceRow,
    row: DryRunRow,
    reason: str,
    *,
    force: bool,
) -> None:
    """Replace what is held within an open unit of work that has locked client and row. See `enforce`."""
    missed = dry_runs.misses_of(unit.session, row.id, MISSES_SHOWN)
    if not force:
        _refuse_early(row, missed, unit.now)
    moment = note_narrowed(unit, client)
    standing = {
        grant.permission: grant
        for grant in clients.grants_of(unit.session, [client.id])
        if grant.resource_id == resource.id and grant.kind == AccessKind.APPLICATION and grant.stands(unit.now)
    }
    replaced = {held["permission"] for held in row.replaces}
    _check_still_fits(unit.session, client, resource, row, standing)
    place = Place(
        resources.catalogues(unit.session, [resource])[resource.id],
        resources.trees(unit.session, [resource])[resource.id],
    )
    kept_ends = {name: standing[name].expires_at for name in replaced}
    for name in replaced - set(row.permissions):
        standing[name].expires_at, standing[name].narrowed_at = unit.now, moment
        unit.session.add(standing[name])
    asked = {
        ask.permission: ask
        for ask in clients.asks_of(unit.session, [client.id])
        if ask.resource_id == resource.id and ask.kind == AccessKind.APPLICATION
    }
    for name in row.permissions:
        grant = standing.get(name)
        if grant is None:
            grant = clients.GrantRow(
                id=uuid4(),
                client_id=client.id,
                resource_id=resource.id,
                permission=name,
                kind=AccessKind.APPLICATION.value,
                granted_at=unit.now,
                granted_by=unit.actor.name,
                expires_at=_end_of(place, row.before(), kept_ends, Holding(name, reach_of(row.reach))),
            )
        grant.reach, grant.narrowed_at = row.reach, moment if name in standing else None
        unit.session.add(grant)
        if name not in asked:
            unit.session.add(
                clients.AskRow(
                    id=uuid4(),
                    client_id=client.id,
                    resource_id=resource.id,
                    permission=name,
                    kind=AccessKind.APPLICATION.value,
                    reason=reason or "Fits what it does",
                    asked_at=unit.now,
                    asked_by=unit.actor.name,
                    asked_by_id=unit.actor.id,
                    reach=row.reach,
                )
            )
    for name in replaced - set(row.permissions):
        if name in asked:
            unit.session.delete(asked[name])
    _end(unit, row, "enforced")
    unit.enter(
        "rightsizing.enforced",
        client_subject(client),
        before={"held": _words(row.before())},
        after={"resource": resource.name, "holds": _words(row.after()), "missed": sum(one.calls for one in missed)},
        reason=reason,
    )
    unit.session.flush()


def _end_of(
    place: Place, before: tuple[Holding, ...], ends: Mapping[str, datetime | None], wanted: Holding
) -> datetime | None:
    """Return until when something may be held in place of what was: as long as that would still have opened it all."""
    lasting = [one for one in before if ends[one.permission] is None]
    if place.covers(lasting, [wanted]):
        return None
    for moment in sorted({end for end in ends.values() if end is not None}, reverse=True):
        lasting += [one for one in before if ends[one.permission] == moment]
        if place.covers(lasting, [wanted]):
            return moment
    return min((end for end in ends.values() if end is not None), default=None)


def _check_still_fits(
    session: Session,
    client: clients.ClientRow,
    resource: resources.ResourceRow,
    row: DryRunRow,
    standing: Mapping[str, clients.GrantRow],
) -> None:
    """Refuse what was in a dry run where what is held has changed, or where it would give what is not held."""
    again = "Drop this, look at the proposal again, and try that out."
    for held in row.replaces:
        name = held["permission"]
        if name not in standing or reach_of(standing[name].reach) != reach_of(held["reach"]):
            raise Conflict(f"What “{client.name}” holds at {resource.name} has changed since: {name}.", next_step=again)
    catalogue, tree = resources.catalogues(session, [resource]), resources.trees(session, [resource])
    gives = compare(catalogue[resource.id], row.before(), row.after(), tree[resource.id])
    further = ", ".join(sorted(gives.newly | gives.wider))
    if further:
        raise Conflict(f"{resource.name} has changed since: it would now open {further} further.", next_step=again)


def _refuse_early(row: DryRunRow, missed: list[dry_runs.DryRunMissRow], now: datetime) -> None:
    if missed:
        told = ", ".join(f"{one.operation} {one.object} ({one.calls} times)".replace("  ", " ") for one in missed[:5])
        raise StillInUse(
            f"It would refuse what is done: {told}.",
            violations=tuple(
                Violation("misses", f"{one.operation} {one.object}".strip(), "nothing missed") for one in missed[:5]
            ),
            next_step="Drop it and look at the proposal again, which knows of this; or force it.",
        )
    if now < row.dry_run_until:
        raise StillInUse(
            f"It is in a dry run until {row.dry_run_until:%Y-%m-%d %H:%M} UTC; nothing was missed so far.",
            next_step="Wait, or force it.",
        )


def _running(
    unit: Unit, client_id: str, resource_name: str
) -> tuple[clients.ClientRow, resources.ResourceRow, DryRunRow, list[requests.RequestRow]]:
    """Lock what is in a dry run, the requests that wait for it before the client, as whoever decides one does."""
    resource = find_resource(unit.session, unit.directory, resource_name)
    seen = dry_runs.running(unit.session, client_id, resource.id)
    asked = requests.waiting_for_dry_run(unit.session, seen.id, unit.now, lock=True) if seen is not None else []
    client = find_client(unit.session, unit.directory, client_id, lock=True)
    row = dry_runs.running(unit.session, client.id, resource.id, lock=True)
    if row is None:
        raise NotFound(
            f"Nothing is in a dry run for “{client.name}” at {resource.name}.", next_step="Start a dry run first."
        )
    return client, resource, row, asked


def _end(unit: Unit, row: DryRunRow, outcome: str) -> None:
    row.ended_at, row.ended_by, row.outcome = unit.now, unit.actor.name, outcome
    unit.session.add(row)


def _settle(unit: Unit, asked: Iterable[requests.RequestRow], state: RequestState) -> None:
    """End the requests that waited for what was just decided without them."""
    for one in asked:
        one.state, one.decided_at, one.decided_by = state.value, unit.now, unit.actor.name
        unit.session.add(one)


def _words(held: tuple[Holding, ...]) -> list[str]:
    return sorted(f"{one.permission} {one.reach.words}" for one in held) or ["nothing"]


def _tried_already() -> Conflict:
    return Conflict("Something is in a dry run there already.", next_step="Enforce or end that first.")
