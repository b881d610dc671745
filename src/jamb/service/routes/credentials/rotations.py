"""Rotations: what is due and under way, and each step of one."""

from __future__ import annotations

from typing import Annotated, Any
from uuid import UUID

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.credentials import opening, rotations
from jamb.actions.credentials.adding import SHOWN, Added, Delivery, Place
from jamb.actions.credentials.delivering import Delivered, to_owners
from jamb.actions.credentials.handovers import HandoverTerms
from jamb.actions.credentials.shown_once import carried, issued_answer, made_answer
from jamb.core.credentials.handover import MOST_HOURS, Deliver
from jamb.core.directory.policy import BOUNDS
from jamb.core.errors import Refusal
from jamb.service.callers import TheRuntime, may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_position
from jamb.service.http.routing import api_router
from jamb.service.routes.credentials.additions import addition_of
from jamb.service.runtime import Runtime
from jamb.wire.base.problems import problem_of
from jamb.wire.base.shapes import Page
from jamb.wire.credentials import rotations as wire

router = api_router("/api/v1/directories/{directory}", tags=["rotations"])
_ONE = "/clients/{client}/rotations/{rotation}"


@router.get("/rotations")
def list_rotations(
    act: Annotated[Act, may("rotations.list")],
    request: Request,
    response: Response,
    ended: Annotated[bool, Query(description="Those ended in the last thirty days instead")] = False,
    client: Annotated[str | None, Query(max_length=80, description="Only of this client, by its id")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Rotation]:
    """Rotations under way, the one whose overlap ends first before the others; or those ended lately, latest first."""
    only = act.own if client is None else {client} if act.own is None else {client} & act.own
    found, more = rotations.list_rotations(act, ended, only, unpack_position(cursor), limit)
    following = onward(request, response, more)
    return Page[wire.Rotation](items=found, next=following)


@router.get("/rotations/due")
def list_due(
    act: Annotated[Act, may("rotations.due")],
    request: Request,
    response: Response,
    within: Annotated[
        int | None, Query(ge=0, le=3650, description="Days; the policy's warning period when left out")
    ] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Due]:
    """Credentials that expire soon and that nothing follows yet, the first to end before the others."""
    found, more = rotations.list_due(act, within, act.own, unpack_position(cursor), limit)
    following = onward(request, response, more)
    return Page[wire.Due](items=found, next=following)


def _as_if(setting: str) -> Any:
    low, high = BOUNDS[setting]
    return Query(ge=low, le=high, description="As if the policy said so")


@router.get("/rotations/forecast")
def foresee(
    act: Annotated[Act, may("rotations.foresee")],
    secret_default_days: Annotated[int | None, _as_if("secret_default_days")] = None,
    key_default_days: Annotated[int | None, _as_if("key_default_days")] = None,
    warn_days: Annotated[int | None, _as_if("warn_days")] = None,
) -> list[wire.Week]:
    """The rotations of the coming year by week, under the policy or another."""
    wanted = {
        "secret_default_days": secret_default_days,
        "key_default_days": key_default_days,
        "warn_days": warn_days,
    }
    changes = {name: value for name, value in wanted.items() if value is not None}
    weeks = rotations.foresee(act, changes)
    return [wire.Week.model_validate(one) for one in weeks]


@router.post("/rotations")
def open_rotations(
    sent: wire.NewRotations, act: Annotated[Act, may("rotations.open-all")], runtime: TheRuntime
) -> wire.OpenedRotations:
    """Put another credential like it beside each of many. What of them is secret is in this answer only.

    What cannot be opened is told by its problem, and hinders no other.
    """
    wanted = [opening.ToOpen(one.client, one.credential, one.id) for one in sent.rotations]
    told: dict[UUID, Delivered] = {}

    def by_mail(asked: opening.ToOpen) -> Delivery:
        told[asked.rotation_id] = Delivered()
        return _to_owners(runtime, told[asked.rotation_id])

    delivering = by_mail if sent.deliver is not None else opening.shown
    opened = opening.open_rotations(act, wanted, sent.days, sent.overlap_days, delivering)
    results = list(zip(wanted, opened, strict=True))
    return wire.OpenedRotations(
        opened=[_opened(one, told.get(one.rotation.id)) for _, one in results if not isinstance(one, Refusal)],
        failed=[
            wire.NotOpened(
                id=asked.rotation_id,
                client_id=asked.client_id,
                credential_id=asked.credential_id,
                problem=problem_of(one),
            )
            for asked, one in results
            if isinstance(one, Refusal)
        ],
    )


@router.post("/clients/{client}/credentials/{credential}/rotation", status_code=201)
def open_rotation(
    client: str,
    credential: UUID,
    sent: wire.NewRotation,
    act: Annotated[Act, may("rotations.open")],
    runtime: TheRuntime,
) -> wire.OpenedRotation:
    """Put another credential beside one. What of it is secret is in this answer only."""
    successor = addition_of(sent.successor, sent.days) if sent.successor is not None else None
    told = Delivered()
    delivery = _to_owners(runtime, told) if sent.deliver is Deliver.OWNERS else SHOWN
    opened = opening.open_rotation(act, client, credential, successor, sent.days, sent.overlap_days, sent.id, delivery)
    return _opened(opened, told)


@router.get(_ONE)
def read_rotation(act: Annotated[Act, may("rotations.read")], client: str, rotation: UUID) -> wire.Rotation:
    """How far a rotation is, and who still uses the old credential."""
    return rotations.read_rotation(act, client, rotation)


@router.post(f"{_ONE}/reissue", status_code=201)
def reissue(
    client: str,
    rotation: UUID,
    act: Annotated[Act, may("rotations.reissue")],
) -> wire.OpenedRotation:
    """Issue the rotation's new secret again, because it was lost before anything used it."""
    return _opened(rotations.reissue(act, client, rotation))


@router.post(f"{_ONE}/extension")
def extend(
    client: str,
    rotation: UUID,
    sent: wire.Extension,
    act: Annotated[Act, may("rotations.extend")],
) -> wire.Rotation:
    """Let the overlap last longer."""
    return rotations.extend(act, client, rotation, sent.days)


@router.post(f"{_ONE}/closing")
def close(
    client: str,
    rotation: UUID,
    sent: wire.Closing,
    act: Annotated[Act, may("rotations.close")],
) -> wire.Rotation:
    """Withdraw the old credential. Refused while it is in use, naming by whom, unless it is forced."""
    return rotations.close(act, client, rotation, sent.forced, sent.reason)


@router.post(f"{_ONE}/abandonment")
def abandon(
    client: str,
    rotation: UUID,
    sent: wire.Abandonment,
    act: Annotated[Act, may("rotations.abandon")],
) -> wire.Rotation:
    """Withdraw the new credential; the old one stands as before."""
    return rotations.abandon(act, client, rotation, sent.reason)


def _following(at: Place, added: Added) -> str:
    return (
        f"“{at.client.name}”: {added.credential.hint} follows what it has; both are valid. "
        "Whoever of you opens the link has it"
    )


def _to_owners(runtime: Runtime, told: Delivered) -> Delivery:
    return to_owners(runtime.backend, HandoverTerms(MOST_HOURS), carried, _following, told)


def _opened(opened: rotations.Opened, told: Delivered | None = None) -> wire.OpenedRotation:
    if told is not None and told.handover is not None:
        return wire.OpenedRotation(rotation=opened.rotation, issued=None, made=None, delivered_to=told.names)
    return wire.OpenedRotation(
        rotation=opened.rotation,
        issued=issued_answer(opened.added),
        made=made_answer(opened.added),
    )
