"""Take in what guards report. Observed, not decided: counted once per batch, and not entered in the ledger."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.core.audit.rightsizing import misses
from jamb.core.errors import Forbidden, Unsuited
from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree
from jamb.store.base.work import observation
from jamb.store.clients import clients
from jamb.store.consent import dry_runs
from jamb.store.directory import people
from jamb.store.resources import resources, usage, use_evidence
from jamb.store.resources.usage import Refused
from jamb.wire.resources.usage import Refusals

# A guard whose tokens were revoked may report late; older than this it is no longer evidence of anything.
OLDEST = timedelta(days=31)


@dataclass(frozen=True, slots=True)
class Details:
    """Of the calls of one row: how many were about which object, and for whom they were made."""

    objects: Mapping[str, int]
    people: Sequence[str]


def report(
    act: Act,
    resource_name: str,
    batch_id: UUID,
    used: Sequence[tuple[str, Use]],
    refusals: Sequence[tuple[str, Refused]] = (),
    details: Sequence[Details] = (),
    uncounted: Sequence[tuple[datetime, datetime]] = (),
) -> int:
    """Count the uses and refused calls of one batch; return how many rows were counted (0: it was counted before).

    Uses of clients that this directory does not know are passed over: they have gone since. `uncounted`: times in which
    the guard let calls through that it could not count, so that the audit calls nothing unused by them.

    Raises:
        Forbidden: the reporter is not this resource's guard. BadInput: an unknown operation, or an impossible day.
    """
    with observation(act.backend.engine) as session:
        resource = find_resource(session, act.directory, resource_name)
        if resource.guard_client_id != act.actor.id:
            raise Forbidden(
                f"Only the guard of {resource.name} reports what was used there.",
                next_step="Report with the client that the resource names as its guard.",
            )
        catalogue = resources.catalogues(session, [resource])[resource.id]
        _check(act.now, catalogue, used, refusals, uncounted)
        if not usage.remember_batch(session, batch_id, resource.id, act.now):
            return 0
        known = clients.known(session, act.directory.id, {client_id for client_id, _ in (*used, *refusals)})
        counted = [(client_id, use) for client_id, use in used if client_id in known]
        usage.add_uses(session, resource.id, counted)
        for since, until in uncounted:
            resources.note_uncounted(session, resource.id, since, until)
        tree = resources.trees(session, [resource])[resource.id]
        detailed = [
            (client_id, use, one) for (client_id, use), one in zip(used, details, strict=False) if client_id in known
        ]
        _note_details(session, act.directory.id, resource.id, catalogue, tree, detailed)
        refused_here = [(client_id, one) for client_id, one in refusals if client_id in known]
        usage.add_refusals(session, resource.id, _told(refused_here, tree))
        return len(counted) + len(refused_here)


def _check(
    now: datetime,
    catalogue: Catalogue,
    used: Sequence[tuple[str, Use]],
    refusals: Sequence[tuple[str, Refused]],
    uncounted: Sequence[tuple[datetime, datetime]],
) -> None:
    for place, (_, use) in enumerate(used):
        if use.operation not in catalogue.operations:
            raise Unsuited.field(f"uses.{place}.operation", use.operation, f"an operation of {catalogue.title}")
        if not now - OLDEST <= use.last_at <= now + timedelta(minutes=5) or use.day != use.last_at.date():
            raise Unsuited.field(f"uses.{place}.last_at", use.last_at.isoformat(), "within the last 31 days")
    for place, (_, refused) in enumerate(refusals):
        if refused.operation not in catalogue.operations:
            raise Unsuited.field(f"refusals.{place}.operation", refused.operation, f"an operation of {catalogue.title}")
        if not now - OLDEST <= refused.last_at <= now + timedelta(minutes=5):
            raise Unsuited.field(f"refusals.{place}.last_at", refused.last_at.isoformat(), "within the last 31 days")
    for place, (since, until) in enumerate(uncounted):
        if not now - OLDEST <= since <= until <= now + timedelta(minutes=5):
            raise Unsuited.field(
                f"uncounted.{place}",
                f"{since.isoformat()} to {until.isoformat()}",
                "within the last 31 days, in order",
            )


def _note_details(
    session: Session,
    directory_id: UUID,
    resource_id: UUID,
    catalogue: Catalogue,
    tree: CollectionTree,
    rows: Sequence[tuple[str, Use, Details]],
) -> None:
    """Note objects that lie in a collection by name and others as one, people of the directory, and what was missed."""
    as_itself = [
        (client_id, use, {name if name in tree.everything else "": 0 for name in one.objects}, one)
        for client_id, use, one in rows
        if use.kind is AccessKind.APPLICATION
    ]
    use_evidence.add_objects(
        session,
        (
            (client_id, resource_id, use.operation, name, use.last_at)
            for client_id, use, names, _ in as_itself
            if catalogue.concerns_object(use.operation)
            for name in names
        ),
    )
    acted = {person for _, use, one in rows if use.kind is AccessKind.DELEGATED for person in one.people}
    known = people.known_ids(session, directory_id, acted)
    use_evidence.add_people(
        session,
        (
            (client_id, resource_id, use.operation, known[person], use.last_at)
            for client_id, use, one in rows
            if use.kind is AccessKind.DELEGATED
            for person in one.people
            if person in known
        ),
    )
    trying = dry_runs.running_at(session, resource_id, {client_id for client_id, *_ in as_itself})
    missed = []
    for client_id, use, _, one in as_itself:
        row = trying.get(client_id)
        if row is None or use.last_at < row.started_at:
            continue
        found = misses(catalogue, tree, row.after(), use.operation, one.objects, use.calls)
        missed += [
            (row.id, use.operation, name if name in tree.everything else "", calls, use.last_at)
            for name, calls in found.items()
        ]
    dry_runs.add_misses(session, missed)


def _told(refusals: Sequence[tuple[str, Refused]], tree: CollectionTree) -> list[tuple[str, Refused]]:
    """Name the object only where it lies in a collection: others are whatever a caller made up, without limit."""
    summed: dict[tuple[Any, ...], tuple[str, Refused]] = {}
    for client_id, one in refusals:
        known = replace(one, object=one.object if one.object in tree.everything else "")
        key = (client_id, known.operation, known.kind, known.reason, known.object, known.day)
        _, before = summed.get(key, (client_id, None))
        if before is not None:
            latest = max(before.last_at, known.last_at)
            known = replace(known, calls=before.calls + known.calls, last_at=latest)
        summed[key] = (client_id, known)
    return list(summed.values())


def list_refusals(act: Act, client_id: str, limit: int) -> list[Refusals]:
    """Return what guards refused to a client, latest first."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        rows = {row.id: row for row in resources.resources_of(session, act.directory.id)}
        catalogues = resources.catalogues(session, rows.values())
        return [
            Refusals(
                resource=rows[refusal.resource_id].name,
                operation=refusal.operation,
                title=known.title
                if (known := catalogues[refusal.resource_id].operations.get(refusal.operation))
                else refusal.operation,
                kind=AccessKind(refusal.kind),
                reason=refusal.reason,
                object=refusal.object,
                calls=refusal.calls,
                last_at=refusal.last_at,
            )
            for refusal in usage.refusals_of(session, client.id, limit)
        ]
