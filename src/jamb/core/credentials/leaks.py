"""Finding client secrets where they do not belong, without knowing any: by their prefix and checksum.

A text that looks like a secret but was not made as one has the right checksum once in 2^35: what is found is one.
"""

from __future__ import annotations

import hashlib
import hmac
import re
from collections.abc import Iterator
from dataclasses import dataclass

from jamb.core.credentials.secrets import PREFIX, fault_of

# Whatever stands around it: in escaped text a mail may come right before, and the checksum tells enough.
_LIKE = re.compile(PREFIX.encode() + rb"[a-z2-7]{52}_[a-z2-7]{7}")
LEAK_LENGTH = len(PREFIX) + 52 + 1 + 7


@dataclass(frozen=True, slots=True)
class Leak:
    """A secret and where it begins, in bytes."""

    offset: int
    secret: str


def leaks_in(data: bytes) -> Iterator[Leak]:
    """Yield the secrets in some bytes of any encoding that keeps ASCII, in their order."""
    for match in _LIKE.finditer(data):
        secret = match[0].decode()
        if fault_of(secret) is None:
            yield Leak(match.start(), secret)


def look_up_of(secret: str) -> str:
    """Return the text by which a secret can be looked up without sending it: SHA-256 in 64 hexadecimal digits."""
    return hashlib.sha256(secret.encode()).hexdigest()


def fingerprint_of(key: bytes, look_up: str) -> bytes:
    """Return the keyed form of a look-up that is kept beside a secret's digest: HMAC-SHA-256 (RFC 2104), 32 bytes."""
    return hmac.digest(key, look_up.encode(), "sha256")
