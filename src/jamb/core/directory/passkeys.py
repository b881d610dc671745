"""Passkeys: keys of a person's own devices, by which they sign in without a password (W3C Web Authentication Level 3).

A passkey counts as two factors: the device that has it, and what the device asked its person for (user verification).
"""

from __future__ import annotations

import hmac
from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from urllib.parse import urlsplit

MOST_PASSKEYS = 10
NAME_LONGEST = 60
# How long a browser has from when it asked until the person used their device.
CHALLENGE_LIFE = timedelta(minutes=5)
_RANDOM, _UNTIL, _SEAL = 16, 8, 24
CHALLENGE_BYTES = _RANDOM + _UNTIL + _SEAL


def host_of(url: str) -> str:
    """Return the host to which passkeys belong (section 5.1.2, rp.id); empty where it has no name but a number."""
    host = urlsplit(url).hostname or ""
    try:
        ip_address(host)
    except ValueError:
        return host
    return ""


def challenge(key: bytes, random: bytes, purpose: str, now: datetime) -> bytes:
    """Return a challenge (section 13.4.3) that says itself until when it counts, and what for."""
    said = random[:_RANDOM] + int((now + CHALLENGE_LIFE).timestamp()).to_bytes(_UNTIL, "big")
    return said + _sealed(key, said, purpose)


def challenge_end(key: bytes, sent: bytes, purpose: str, now: datetime) -> datetime | None:
    """Return until when a challenge of ours counts; None for any other, or one that has run out."""
    said, seal = sent[: _RANDOM + _UNTIL], sent[_RANDOM + _UNTIL :]
    if len(sent) != CHALLENGE_BYTES or not hmac.compare_digest(seal, _sealed(key, said, purpose)):
        return None
    until = datetime.fromtimestamp(int.from_bytes(said[_RANDOM:], "big"), UTC)
    return until if until > now else None


def _sealed(key: bytes, said: bytes, purpose: str) -> bytes:
    return hmac.digest(key, b"passkey\0" + purpose.encode() + b"\0" + said, "sha256")[:_SEAL]
