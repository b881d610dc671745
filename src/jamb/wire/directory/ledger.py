"""Ledger entries and verification."""

from __future__ import annotations

from typing import Any

from jamb.core.ledger import Entry
from jamb.wire.base.shapes import Answered, Moment


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


def entry_of(entry: Entry, digest: bytes = b"") -> LedgerEntry:
    return LedgerEntry(
        sequence=entry.sequence,
        at=entry.at,
        actor=dict(entry.actor),
        action=entry.action,
        subject=dict(entry.subject),
        before=dict(entry.before) if entry.before is not None else None,
        after=dict(entry.after) if entry.after is not None else None,
        reason=entry.reason,
        hash=digest.hex(),
    )


class Verification(Answered):
    """`sound`: every entry fits its hash and the chain fits its sealed head. Otherwise `first_fault` says where."""

    at: Moment
    sound: bool
    entries: int
    head: str
    first_fault: int | None
    what: str
