"""Rotations: what is due and under way, and each step of one."""

from __future__ import annotations

from base64 import b64encode
from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Depends, Query

from jamb.actions import rotations, successors
from jamb.actions.access import Admitted
from jamb.service.callers import Now, TheOffice, may
from jamb.wire import rotations as wire
from jamb.wire.credentials import CertificateSent, IssuerSent, KeysSent, sheet_of

router = APIRouter(prefix="/api/v1/directories/{directory}", tags=["rotations"])
_ONE = "/clients/{client}/rotations/{rotation}"


@router.get("/rotations")
def list_rotations(
    admitted: Annotated[Admitted, Depends(may("rotations.list"))],
    office: TheOffice,
    now: Now,
    within: Annotated[int | None, Query(ge=0, le=3650, description="Days; the policy's notice when left out")] = None,
) -> wire.Board:
    """Credentials that end soon, and the rotations that are open or ended lately."""
    found = rotations.read_board(office.premises, admitted.directory.slug, within, admitted.own, now)
    return wire.Board.model_validate(found)


@router.get("/rotations/forecast")
def foresee(
    admitted: Annotated[Admitted, Depends(may("rotations.foresee"))],
    office: TheOffice,
    now: Now,
    secret_default_days: Annotated[int | None, Query(description="As if the policy said so")] = None,
    key_default_days: Annotated[int | None, Query(description="As if the policy said so")] = None,
    notice_days: Annotated[int | None, Query(description="As if the policy said so")] = None,
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
    opened = rotations.open_rotation(
        office.premises, admitted.directory, client, credential, _successor(sent), sent.days, sent.overlap_days,
        admitted.actor, now, sent.id,
    )  # fmt: skip
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


def _successor(sent: wire.NewRotation) -> successors.Successor | None:
    match sent.successor:
        case None:
            return None
        case wire.SecretWanted():
            return successors.SecretIssued(sent.days)
        case wire.CertificateWanted(key_type=key_type):
            return successors.CertificateMade(key_type, sent.days)
        case CertificateSent() as given:
            return successors.CertificateGiven(given.upload())
        case KeysSent() as given:
            return successors.KeysGiven(given.keys, given.keys_uri, sent.days or given.days)
        case IssuerSent() as given:
            days = sent.days or given.days
            return successors.IssuerTrusted(given.issuer, given.subject, given.keys, given.keys_uri, days)


def _opened(opened: rotations.Opened) -> wire.OpenedRotation:
    put = opened.put
    return wire.OpenedRotation(
        rotation=wire.Rotation.model_validate(opened.rotation),
        secret=put.sheets[0].secret if put.sheets else None,
        sheets=[sheet_of(one) for one in put.sheets],
        certificate=put.pair.certificate.decode() if put.pair is not None else None,
        pkcs12=b64encode(put.pair.pkcs12).decode() if put.pair is not None else None,
        private_key=put.pair.private_key.decode() if put.pair is not None else None,
        passphrase=put.pair.passphrase if put.pair is not None else None,
    )
