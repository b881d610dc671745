"""Right-sizing: what would do, tried out dry, put in force."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Annotated

from jamb.actions import fits, narrowing
from jamb.actions.act import Act
from jamb.actions.request_views import read_request
from jamb.core.access import Holding
from jamb.core.permissions import Catalogue
from jamb.service.callers import may
from jamb.service.paging import MOST_LIMIT, Limit
from jamb.service.routing import api_router
from jamb.wire import narrowing as wire
from jamb.wire.reach import Reach
from jamb.wire.requests import ConsentRequest

router = api_router("/api/v1/directories/{directory}", tags=["audit"])
_FIT = "/clients/{client}/fits/{resource}"


@router.get(_FIT)
def read_fit(act: Annotated[Act, may("narrowing.read")], client: str, resource: str) -> wire.Fit:
    """The smallest grant that fits the client's use of a resource, beside what it holds. Changes nothing."""
    found = fits.fit(act, client, resource)
    proposal = None
    if found.proposal is not None and found.comparison is not None:
        one = found.proposal
        proposal = wire.FitProposal(
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
    return wire.Fit(
        client_id=found.client_id,
        client_name=found.client_name,
        resource=found.resource,
        proposal=proposal,
        why_not=found.why_not,
        trial=trial_answer(found.trial) if found.trial is not None else None,
        request_id=found.request_id,
    )


@router.post(f"{_FIT}/trial", status_code=201)
def try_out(
    client: str,
    resource: str,
    sent: wire.TryOut,
    act: Annotated[Act, may("narrowing.try-out")],
) -> wire.Trial:
    """Begin to count what the proposed grant would refuse. Nothing is refused by it."""
    return trial_answer(narrowing.try_out(act, client, resource, sent.days, sent.reason))


@router.delete(f"{_FIT}/trial")
def droptrial_answer(
    client: str,
    resource: str,
    act: Annotated[Act, may("narrowing.drop")],
) -> wire.Trial:
    """Stop trying out; everything stays as it is."""
    return trial_answer(narrowing.drop(act, client, resource, ""))


@router.post(f"{_FIT}/request", status_code=201)
def request_fit(
    client: str,
    resource: str,
    sent: wire.FitRequest,
    act: Annotated[Act, may("narrowing.request")],
) -> ConsentRequest:
    """Ask an approver to put the narrower grant in force; it is tried out until then."""
    made = narrowing.request(act, client, resource, sent.days, sent.reason)
    found = read_request(act, made, None)
    return found.request


@router.post(f"{_FIT}/enforcement")
def enforce(
    client: str,
    resource: str,
    sent: wire.Enforcement,
    act: Annotated[Act, may("narrowing.enforce")],
) -> wire.Trial:
    """Put what was tried out in place of what is held, in one step."""
    return trial_answer(narrowing.enforce(act, client, resource, sent.reason, force=sent.force))


@router.get("/audit/trials")
def list_trials(act: Annotated[Act, may("narrowing.list")], limit: Limit = MOST_LIMIT) -> list[wire.Trial]:
    """What is tried out, the oldest first."""
    return [trial_answer(one) for one in fits.list_trials(act, limit)]


def trial_answer(one: fits.Trial) -> wire.Trial:
    return wire.Trial(
        id=one.id,
        client_id=one.client_id,
        client_name=one.client_name,
        resource=one.resource,
        before=_held(one.before),
        after=_held(one.after),
        started_at=one.started_at,
        started_by=one.started_by,
        dry_until=one.dry_until,
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
