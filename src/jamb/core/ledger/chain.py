"""Chaining entries by SHA-256 over a canonical form, and finding where a chain was tampered with.

The canonical form is JSON with sorted keys, no spaces and only strings, whole numbers, booleans, nulls, lists and
objects, which for such values is that of RFC 8785. The head of a chain carries a keyed seal (HMAC-SHA-256, RFC 2104),
so that recomputing every hash after an alteration, or dropping the newest entries, does not go unseen either.
"""

from __future__ import annotations

import hashlib
import hmac
import json
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any

GENESIS = b"\0" * 32


@dataclass(frozen=True, slots=True)
class Entry:
    """One change: who, through which client, what, on what, before and after (never a secret), why."""

    sequence: int
    at: datetime
    actor: Mapping[str, str]
    action: str
    subject: Mapping[str, str]
    before: Mapping[str, Any] | None
    after: Mapping[str, Any] | None
    reason: str


@dataclass(frozen=True, slots=True)
class Fault:
    """Where a chain is broken and how. `sequence` is that of the first entry that cannot be trusted."""

    sequence: int
    what: str


def canonical(entry: Entry) -> bytes:
    """Return the bytes that are hashed; equal entries give equal bytes on every machine. Times are UTC microseconds."""
    value = {
        "sequence": entry.sequence,
        "at": int(entry.at.timestamp()) * 1_000_000 + entry.at.microsecond,
        "actor": dict(entry.actor),
        "action": entry.action,
        "subject": dict(entry.subject),
        "before": entry.before,
        "after": entry.after,
        "reason": entry.reason,
    }
    return json.dumps(value, sort_keys=True, separators=(",", ":"), ensure_ascii=False, allow_nan=False).encode()


def chained(previous: bytes, entry: Entry) -> bytes:
    """Return the hash of the entry that follows `previous` (32 bytes each)."""
    return hashlib.sha256(previous + canonical(entry)).digest()


def seal_of(key: bytes, sequence: int, head: bytes) -> bytes:
    """Return the keyed seal of a chain's head."""
    return hmac.digest(key, sequence.to_bytes(8, "big") + head, "sha256")


def verify(
    entries: Iterable[tuple[Entry, bytes]], head_sequence: int, head: bytes, seal: bytes, key: bytes
) -> Fault | None:
    """Walk a whole chain in order and return the first fault, or None.

    Args:
        entries: each entry with the hash that is stored beside it, by rising sequence.
        head_sequence, head, seal: what the store holds as the chain's head.
        key: the key of the seal.
    """
    previous, expected = GENESIS, 1
    for entry, stored in entries:
        if entry.sequence != expected:
            return Fault(expected, f"entry {expected} is missing")
        previous = chained(previous, entry)
        if not hmac.compare_digest(previous, stored):
            return Fault(entry.sequence, f"entry {entry.sequence} does not match its hash: it or its hash was altered")
        expected += 1
    if head_sequence != expected - 1:
        return Fault(expected, f"the newest entries are missing: the head is at {head_sequence}")
    if not hmac.compare_digest(previous, head) or not hmac.compare_digest(seal_of(key, head_sequence, head), seal):
        return Fault(max(expected - 1, 1), "the seal of the head does not match: the whole chain was written anew")
    return None
