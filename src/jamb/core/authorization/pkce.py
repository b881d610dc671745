"""Proof key for code exchange (RFC 7636): whoever redeems a code is whoever asked for it. S256 alone."""

from __future__ import annotations

import base64
import re
from hashlib import sha256
from hmac import compare_digest

METHOD = "S256"
# Section 4.1: 43 to 128 unreserved characters; section 4.2: a SHA-256 in base64url without padding.
_VERIFIER = re.compile(r"[A-Za-z0-9\-._~]{43,128}\Z")
_CHALLENGE = re.compile(r"[A-Za-z0-9\-_]{43}\Z")


def is_challenge(text: str) -> bool:
    return _CHALLENGE.match(text) is not None


def is_verifier(text: str) -> bool:
    return _VERIFIER.match(text) is not None


def challenge_of(verifier: str) -> str:
    """Return the challenge of a verifier (section 4.2)."""
    return base64.urlsafe_b64encode(sha256(verifier.encode("ascii")).digest()).rstrip(b"=").decode()


def fits(verifier: str, challenge: str) -> bool:
    """Tell whether a verifier is the one whose challenge was sent (section 4.6)."""
    return is_verifier(verifier) and compare_digest(challenge_of(verifier), challenge)
