"""Ledger entries and verification."""

from __future__ import annotations

from typing import Any

from jamb.wire.base import Answered, Moment


class LedgerEntry(Answered):
    """One change. `hash` (hex) chains it to the entry before."""

    sequence: int
    at: Moment
    actor: dict[str, str]
    action: str
    subject: dict[str, str]
    before: dict[str, Any] | None
    after: dict[str, Any] | None
    reason: str
    hash: str


class Verification(Answered):
    """`sound`: every entry fits its hash and the chain fits its sealed head. Otherwise `first_fault` says where."""

    at: Moment
    sound: bool
    entries: int
    head: str
    first_fault: int | None
    what: str
