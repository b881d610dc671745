"""Right-sizing: what would do, tried in a dry run, put in force."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated

from jamb.actions.base.act import Act
from jamb.actions.consent import dry_runs, rightsizing
from jamb.actions.consent.request_views import read_request
from jamb.core.access import Holding
from jamb.core.permissions import Catalogue
from jamb.service.callers import may
from jamb.service.http.paging import MOST_LIMIT, Limit
from jamb.service.http.routing import api_router
from jamb.wire.consent import rightsizing as wire
from jamb.wire.consent.requests import ConsentRequest
from jamb.wire.resources.reach import Reach

router = api_router("/api/v1/directories/{directory}", tags=["audit"])
_RIGHTSIZING = "/clients/{client}/rightsizing/{resource}"


@router.get(_RIGHTSIZING)
def read_rightsizing(act: Annotated[Act, may("rightsizing.read")], client: str, resource: str) -> wire.Rightsizing:
    """The smallest grant that fits the client's use of a resource, beside what it holds. Changes nothing."""
    found = rightsizing.propose(act, client, resource)
    proposal = None
    if found.proposal is not None and found.comparison is not None:
        one = found.proposal
        proposal = wire.SmallerGrant(
            held=_held(one.held, found.catalogue),
            kept=_held(one.kept, found.catalogue),
            after=_held(one.after, found.catalogue),
            done=list(one.done),
            touched=sorted(one.objects) if one.objects is not None else None,
            no_longer=list(found.comparison.no_longer),
            narrower=list(found.comparison.narrower),
            weight_before=one.weight_before,
            weight_after=one.weight_after,
            exact=one.exact,
        )
    return wire.Rightsizing(
        client_id=found.client_id,
        client_name=found.client_name,
        resource=found.resource,
        proposal=proposal,
        why_not=found.why_not,
        dry_run=dry_run_answer(found.dry_run) if found.dry_run is not None else None,
        request_id=found.request_id,
    )


@router.post(f"{_RIGHTSIZING}/dry-run", status_code=201)
def start(
    client: str,
    resource: str,
    sent: wire.DryRunStart,
    act: Annotated[Act, may("dry-runs.start")],
) -> wire.DryRun:
    """Begin to count what the proposed grant would refuse. Nothing is refused by it."""
    return dry_run_answer(dry_runs.start(act, client, resource, sent.days, sent.reason))


@router.delete(f"{_RIGHTSIZING}/dry-run")
def end_dry_run(
    client: str,
    resource: str,
    act: Annotated[Act, may("dry-runs.end")],
) -> wire.DryRun:
    """Stop trying out; everything stays as it is."""
    return dry_run_answer(dry_runs.drop(act, client, resource, ""))


@router.post(f"{_RIGHTSIZING}/request", status_code=201)
def request_rightsizing(
    client: str,
    resource: str,
    sent: wire.RightsizingRequest,
    act: Annotated[Act, may("rightsizing.request")],
) -> ConsentRequest:
    """Ask an approver to put the narrower grant in force; it is in a dry run until then."""
    made = dry_runs.request(act, client, resource, sent.days, sent.reason)
    found = read_request(act, made, None)
    return found.request


@router.post(f"{_RIGHTSIZING}/enforcement")
def enforce(
    client: str,
    resource: str,
    sent: wire.Enforcement,
    act: Annotated[Act, may("rightsizing.enforce")],
) -> wire.DryRun:
    """Put what was in a dry run in place of what is held, in one step."""
    return dry_run_answer(dry_runs.enforce(act, client, resource, sent.reason, force=sent.force))


@router.get("/audit/dry-runs")
def list_dry_runs(act: Annotated[Act, may("dry-runs.list")], limit: Limit = MOST_LIMIT) -> list[wire.DryRun]:
    """What is in a dry run, the oldest first."""
    return [dry_run_answer(one) for one in rightsizing.list_dry_runs(act, limit)]


def dry_run_answer(one: rightsizing.DryRun) -> wire.DryRun:
    return wire.DryRun(
        id=one.id,
        client_id=one.client_id,
        client_name=one.client_name,
        resource=one.resource,
        before=_held(one.before),
        after=_held(one.after),
        started_at=one.started_at,
        started_by=one.started_by,
        dry_run_until=one.dry_run_until,
        missed=one.missed,
        misses=list(one.misses),
    )


def _held(rows: Iterable[Holding], catalogue: Catalogue | None = None) -> list[wire.HeldPermission]:
    return [
        wire.HeldPermission(
            permission=one.permission,
            title=catalogue.permissions[one.permission].title if catalogue is not None else one.permission,
            reach=Reach.model_validate(one.reach),
        )
        for one in sorted(rows, key=lambda one: (one.permission, one.reach.words))
    ]
