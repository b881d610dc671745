"""Right-sizing: what would do for a client at a resource beside what it holds, and what is in a dry run."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource, load_one
from jamb.core.access import Comparison, Holding, compare
from jamb.core.audit.rightsizing import SmallerGrant, smaller_grant
from jamb.core.directory.directories import Directory
from jamb.core.permissions import Catalogue
from jamb.core.reach import CollectionTree
from jamb.store.consent import dry_runs, requests
from jamb.store.consent.dry_runs import DryRunRow
from jamb.store.resources import resources
from jamb.wire.consent.rightsizing import Miss

MISSES_SHOWN = 20


@dataclass(frozen=True, slots=True)
class DryRun:
    """A narrower grant that is in a dry run. `misses`: calls it would have refused since."""

    id: UUID
    client_id: str
    client_name: str
    resource: str
    after: tuple[Holding, ...]
    before: tuple[Holding, ...]
    started_at: datetime
    started_by: str
    dry_run_until: datetime
    missed: int
    misses: tuple[Miss, ...]


@dataclass(frozen=True, slots=True)
class Rightsizing:
    """What a client holds at a resource beside what would do, and what is in a dry run already.

    `request_id`: of the request to put that in force, where one waits.
    """

    client_id: str
    client_name: str
    resource: str
    catalogue: Catalogue
    tree: CollectionTree
    proposal: SmallerGrant | None
    comparison: Comparison | None
    why_not: str
    dry_run: DryRun | None
    request_id: UUID | None


def propose(act: Act, client_id: str, resource_name: str) -> Rightsizing:
    """Return the smallest grant that fits a client's use of one resource, beside what it holds. Changes nothing."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        resource = find_resource(session, act.directory, resource_name)
        picture = load_one(session, act.directory, client, act.now).picture
        place = next((one for one in picture.resources if one.catalogue.name == resource.name), None)
        found = smaller_grant(place, act.directory.policy, act.now) if place is not None else None
        catalogue = resources.catalogues(session, [resource])[resource.id]
        tree = resources.trees(session, [resource])[resource.id]
        comparison = None
        if found is not None:
            comparison = compare(catalogue, (*found.held, *found.kept), (*found.after, *found.kept), tree)
        row = dry_runs.running(session, client.id, resource.id)
        why = "" if found is not None else _why_not(act.directory, place is not None)
        dry_run = dry_run_of(session, row, client.name, resource.name) if row is not None else None
        waiting = requests.waiting_for_dry_run(session, row.id, act.now) if row is not None else []
        request_id = waiting[0].id if waiting else None
        return Rightsizing(
            client.id, client.name, resource.name, catalogue, tree, found, comparison, why, dry_run, request_id
        )


def list_dry_runs(act: Act, limit: int) -> list[DryRun]:
    """Return what is in a dry run in a directory, oldest first."""
    with act.read() as session:
        places = {row.id: row.name for row in resources.resources_of(session, act.directory.id)}
        return [
            dry_run_of(session, row, name, places[row.resource_id])
            for row, name, _ in dry_runs.running_in(session, act.directory.id, limit)
        ]


def dry_run_of(session: Session, row: DryRunRow, client_name: str, resource: str) -> DryRun:
    rows = dry_runs.misses_of(session, row.id, 1000)
    return DryRun(
        row.id,
        row.client_id,
        client_name,
        resource,
        row.after(),
        row.before(),
        row.started_at,
        row.started_by,
        row.dry_run_until,
        sum(one.calls for one in rows),
        tuple(
            Miss(operation=one.operation, object=one.object, calls=one.calls, last_at=one.last_at)
            for one in rows[:MISSES_SHOWN]
        ),
    )


def _why_not(directory: Directory, known: bool) -> str:
    if not known:
        return "It asks for nothing and holds nothing there."
    return (
        f"Nothing smaller would do for what it did, or there is not enough to judge by: grants are judged after "
        f"{directory.policy.observation_days} days."
    )
