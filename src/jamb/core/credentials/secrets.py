"""The form of a client secret: recognisable, complete or visibly not, and kept only as a keyed digest.

`jamb_s1_` + 52 characters (256 bits, base32 of RFC 4648 section 6 in lower case) + `_` + 7 characters of checksum.
Every character is unreserved (RFC 3986 section 2.3), so the secret is the same in a header, a form and a shell.
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import re
from enum import StrEnum

PREFIX = "jamb_s1_"
SECRET_BYTES = 32
LONGEST_PRESENTED = 512
_SHAPE = re.compile(rf"{PREFIX}[a-z2-7]{{52}}_[a-z2-7]{{7}}\Z")


class SecretFault(StrEnum):
    """What can be said of a presented secret from its text alone, without knowing any stored one."""

    WHITESPACE = "whitespace"
    NOT_OURS = "not-ours"
    DAMAGED = "damaged"


def secret_from(random_bytes: bytes) -> str:
    """Return the secret made of exactly 32 random bytes."""
    if len(random_bytes) != SECRET_BYTES:
        raise ValueError(f"a secret takes {SECRET_BYTES} random bytes, got {len(random_bytes)}")
    body = _base32(random_bytes)
    return f"{PREFIX}{body}_{_checksum(body)}"


def fault_of(presented: str) -> SecretFault | None:
    """Return what is wrong with the text, or None if it is a well-formed secret (which may still be anyone's)."""
    if presented != presented.strip():
        return SecretFault.WHITESPACE
    if not presented.startswith(PREFIX):
        return SecretFault.NOT_OURS
    if not _SHAPE.match(presented):
        return SecretFault.DAMAGED
    body, checksum = presented[len(PREFIX) :].split("_")
    return None if hmac.compare_digest(_checksum(body), checksum) else SecretFault.DAMAGED


def digest_secret(key: bytes, secret: str) -> bytes:
    """Return the keyed digest under which a secret is stored: HMAC-SHA-256 (RFC 2104), 32 bytes.

    256 random bits need no slow hash; the key makes a stolen table useless for testing guesses.
    """
    return hmac.digest(key, secret.encode(), "sha256")


def hint_of(secret: str) -> str:
    """Return the part of a secret that may be shown for ever: its first four random characters (20 of 256 bits)."""
    return f"{PREFIX}{secret[len(PREFIX) : len(PREFIX) + 4]}…"


def _base32(data: bytes) -> str:
    return base64.b32encode(data).decode().rstrip("=").lower()


def _checksum(body: str) -> str:
    return _base32(hashlib.sha256((PREFIX + body).encode()).digest())[:7]
