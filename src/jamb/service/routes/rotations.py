"""Rotations: what is due and under way, and each step of one."""

from __future__ import annotations

from typing import Annotated, Any
from uuid import UUID

from fastapi import Depends, Query, Request, Response

from jamb.actions import rotations
from jamb.actions.access import Admitted
from jamb.actions.adding import SHOWN, Added, Place
from jamb.actions.delivering import Delivered, to_owners
from jamb.actions.handovers import HandoverTerms
from jamb.core.handover import MOST_HOURS, Deliver
from jamb.core.policy import BOUNDS
from jamb.service.callers import Now, TheOffice, may
from jamb.service.paging import DEFAULT_LIMIT, Cursor, Limit, link_next, pack_position, unpack_position
from jamb.service.routes.additions import addition_of, issued_answer, made_answer
from jamb.service.routes.handovers import carried
from jamb.service.routing import api_router
from jamb.wire import rotations as wire
from jamb.wire.base import Page

router = api_router("/api/v1/directories/{directory}", tags=["rotations"])
_ONE = "/clients/{client}/rotations/{rotation}"


@router.get("/rotations")
def list_rotations(
    admitted: Annotated[Admitted, Depends(may("rotations.list"))],
    request: Request,
    response: Response,
    office: TheOffice,
    now: Now,
    ended: Annotated[bool, Query(description="Those ended in the last thirty days instead")] = False,
    client: Annotated[str | None, Query(max_length=80, description="Only of this client, by its id")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Rotation]:
    """Rotations under way, the one whose overlap ends first before the others; or those ended lately, latest first."""
    only = admitted.own if client is None else {client} if admitted.own is None else {client} & admitted.own
    found, more = rotations.list_rotations(
        office.premises, admitted.directory.slug, ended, only, unpack_position(cursor), limit, now
    )
    following = pack_position(more)
    link_next(request, response, following)
    return Page[wire.Rotation](items=[wire.Rotation.model_validate(one) for one in found], next=following)


@router.get("/rotations/due")
def list_due(
    admitted: Annotated[Admitted, Depends(may("rotations.due"))],
    request: Request,
    response: Response,
    office: TheOffice,
    now: Now,
    within: Annotated[int | None, Query(ge=0, le=3650, description="Days; the policy's notice when left out")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Due]:
    """Credentials that end soon and that nothing follows yet, the first to end before the others."""
    found, more = rotations.list_due(
        office.premises, admitted.directory.slug, within, admitted.own, unpack_position(cursor), limit, now
    )
    following = pack_position(more)
    link_next(request, response, following)
    return Page[wire.Due](items=[wire.Due.model_validate(one) for one in found], next=following)


def _as_if(setting: str) -> Any:
    low, high = BOUNDS[setting]
    return Query(ge=low, le=high, description="As if the policy said so")


@router.get("/rotations/forecast")
def foresee(
    admitted: Annotated[Admitted, Depends(may("rotations.foresee"))],
    office: TheOffice,
    now: Now,
    secret_default_days: Annotated[int | None, _as_if("secret_default_days")] = None,
    key_default_days: Annotated[int | None, _as_if("key_default_days")] = None,
    notice_days: Annotated[int | None, _as_if("notice_days")] = None,
) -> list[wire.Week]:
    """The rotations of the coming year by week, under the policy or another."""
    wanted = {
        "secret_default_days": secret_default_days,
        "key_default_days": key_default_days,
        "notice_days": notice_days,
    }
    changes = {name: value for name, value in wanted.items() if value is not None}
    weeks = rotations.foresee(office.premises, admitted.directory.slug, changes, now)
    return [wire.Week.model_validate(one) for one in weeks]


@router.post("/clients/{client}/credentials/{credential}/rotation", status_code=201)
def open_rotation(
    client: str,
    credential: UUID,
    sent: wire.NewRotation,
    admitted: Annotated[Admitted, Depends(may("rotations.open"))],
    office: TheOffice,
    now: Now,
) -> wire.OpenedRotation:
    """Put another credential beside one. What of it is secret is in this answer only."""
    successor = addition_of(sent.successor, sent.days) if sent.successor is not None else None
    told = Delivered()
    delivery = SHOWN
    if sent.deliver is Deliver.OWNERS:
        delivery = to_owners(office.premises, HandoverTerms(MOST_HOURS), carried, _following, told)
    opened = rotations.open_rotation(
        office.premises, admitted.directory, client, credential, successor, sent.days, sent.overlap_days,
        admitted.actor, now, sent.id, delivery,
    )  # fmt: skip
    if told.handover is not None:
        return wire.OpenedRotation(
            rotation=wire.Rotation.model_validate(opened.rotation), issued=None, made=None, delivered_to=told.names
        )
    return _opened(opened)


@router.get(_ONE, dependencies=[Depends(may("rotations.read"))])
def read_rotation(directory: str, client: str, rotation: UUID, office: TheOffice, now: Now) -> wire.Rotation:
    """How far a rotation is, and who still uses the old credential."""
    return wire.Rotation.model_validate(rotations.read_rotation(office.premises, directory, client, rotation, now))


@router.post(f"{_ONE}/reissue", status_code=201)
def reissue(
    client: str,
    rotation: UUID,
    admitted: Annotated[Admitted, Depends(may("rotations.reissue"))],
    office: TheOffice,
    now: Now,
) -> wire.OpenedRotation:
    """Issue the rotation's new secret again, because it was lost before anything used it."""
    return _opened(rotations.reissue(office.premises, admitted.directory, client, rotation, admitted.actor, now))


@router.post(f"{_ONE}/extension")
def extend(
    client: str,
    rotation: UUID,
    sent: wire.Extension,
    admitted: Annotated[Admitted, Depends(may("rotations.extend"))],
    office: TheOffice,
    now: Now,
) -> wire.Rotation:
    """Let the overlap last longer."""
    found = rotations.extend(office.premises, admitted.directory, client, rotation, sent.days, admitted.actor, now)
    return wire.Rotation.model_validate(found)


@router.post(f"{_ONE}/closing")
def close(
    client: str,
    rotation: UUID,
    sent: wire.Closing,
    admitted: Annotated[Admitted, Depends(may("rotations.close"))],
    office: TheOffice,
    now: Now,
) -> wire.Rotation:
    """Withdraw the old credential. Refused while it is in use, naming by whom, unless it is forced."""
    found = rotations.close(
        office.premises, admitted.directory, client, rotation, sent.forced, sent.reason, admitted.actor, now
    )
    return wire.Rotation.model_validate(found)


@router.post(f"{_ONE}/abandonment")
def abandon(
    client: str,
    rotation: UUID,
    sent: wire.Abandonment,
    admitted: Annotated[Admitted, Depends(may("rotations.abandon"))],
    office: TheOffice,
    now: Now,
) -> wire.Rotation:
    """Withdraw the new credential; the old one stands as before."""
    found = rotations.abandon(office.premises, admitted.directory, client, rotation, sent.reason, admitted.actor, now)
    return wire.Rotation.model_validate(found)


def _following(at: Place, added: Added) -> str:
    return (
        f"“{at.client.name}”: {added.credential.hint} follows what it has; both are valid. "
        "Whoever of you opens the link has it"
    )


def _opened(opened: rotations.Opened) -> wire.OpenedRotation:
    return wire.OpenedRotation(
        rotation=wire.Rotation.model_validate(opened.rotation),
        issued=issued_answer(opened.added),
        made=made_answer(opened.added),
    )
