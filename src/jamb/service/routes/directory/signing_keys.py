"""Signing keys of a directory: list, rotate, withdraw."""

from __future__ import annotations

from typing import Annotated

from jamb.actions.base.act import Act
from jamb.actions.directory import signing_keys
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.wire.directory import signing_keys as wire

router = api_router("/api/v1/directories/{directory}/signing-keys", tags=["directory"])


@router.get("")
def list_signing_keys(act: Annotated[Act, may("signing-keys.list")]) -> list[wire.SigningKey]:
    """The keys that sign tokens of the directory, and those that did, newest first."""
    return signing_keys.list_keys(act)


@router.post("", status_code=201)
def rotate_signing_key(sent: wire.KeyRotation, act: Annotated[Act, may("signing-keys.rotate")]) -> wire.SigningKey:
    """Publish a new key of an algorithm; it signs a quarter of an hour later, when every guard has read it."""
    return signing_keys.rotate_key(act, sent.reason, sent.algorithm)


@router.post("/{signing_key}/withdrawal")
def withdraw_signing_key(
    signing_key: str, sent: wire.KeyWithdrawal, act: Annotated[Act, may("signing-keys.withdraw")]
) -> wire.KeyWithdrawn:
    """Withdraw a key that somebody else may have: whatever it signed is refused from then on."""
    return wire.KeyWithdrawn(withdrawn=signing_key, signs=signing_keys.withdraw_key(act, signing_key, sent.reason))
