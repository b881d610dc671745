"""Signing keys of a directory."""

from __future__ import annotations

from jamb.core.directory.signing_keys import KeyState, SigningAlgorithm
from jamb.wire.base.shapes import Answered, Moment, Sent
from jamb.wire.base.text import MaybeSaid, Said


class SigningKey(Answered):
    """`id`: the kid of tokens and of the key set. `signs_from`: until then it is published, and signs nothing.

    `signs`: what keys of its algorithm sign under the policy, in words.
    """

    id: str
    algorithm: SigningAlgorithm
    signs: str
    state: KeyState
    made_at: Moment
    signs_from: Moment
    withdrawn_at: Moment | None


class KeyRotation(Sent):
    algorithm: SigningAlgorithm = SigningAlgorithm.ES256
    reason: MaybeSaid = ""


class KeyWithdrawal(Sent):
    reason: Said


class KeyWithdrawn(Answered):
    """`signs`: the key that signs from now on."""

    withdrawn: str
    signs: str
