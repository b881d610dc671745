"""A second factor of a person: codes of the moment (RFC 6238) from a device of theirs, and codes for when it is lost.

SHA-1, six digits and thirty seconds, as section 5.2 recommends and every such device has them; one step back and one
ahead for clocks that differ, and each step once.
"""

from __future__ import annotations

import base64
import hmac
from collections.abc import Sequence
from urllib.parse import quote, urlencode

STEP_SECONDS = 30
DIGITS = 6
# RFC 4226 section 4: 160 bits are recommended.
SECRET_BYTES = 20
MOST_RECOVERY_CODES = 10
RECOVERY_BYTES = 10
_AROUND = (0, -1, 1)


def code_of(secret: bytes, step: int, digits: int = DIGITS, algorithm: str = "sha1") -> str:
    """Return the code of a step (RFC 4226 section 5.3)."""
    mac = hmac.digest(secret, step.to_bytes(8, "big"), algorithm)
    offset = mac[-1] & 0x0F
    number = int.from_bytes(mac[offset : offset + 4], "big") & 0x7FFFFFFF
    return str(number % 10**digits).zfill(digits)


def step_of(secret: bytes, code: str, now: float, last_step: int) -> int | None:
    """Return the step whose code this is, if it is of now and comes for the first time (RFC 6238 section 5.2)."""
    typed, here = tidied(code), int(now) // STEP_SECONDS
    found = None
    for around in _AROUND:
        # All are looked at: how long it takes tells nothing.
        if hmac.compare_digest(typed.encode(), code_of(secret, here + around).encode()) and here + around > last_step:
            found = here + around if found is None else found
    return found


def tidied(code: str) -> str:
    """Return a code as it is compared: people type spaces, hyphens and capitals as they like."""
    return "".join(ch for ch in code.lower() if ch.isascii() and ch.isalnum())


def recovery_code(random: bytes) -> str:
    """Return random bytes as people copy them: four groups of base32, in lower case (RFC 4648 section 6)."""
    text = base64.b32encode(random).decode().lower().rstrip("=")
    return "-".join(text[start : start + 4] for start in range(0, len(text), 4))


def key_text(secret: bytes) -> str:
    """Return the key as somebody types it who cannot scan it."""
    text = base64.b32encode(secret).decode()
    return " ".join(text[start : start + 4] for start in range(0, len(text), 4))


def key_uri(secret: bytes, directory: str, login: str) -> str:
    """Return the address that devices scan: who made the key, for whom, and its parameters."""
    label = quote(f"{directory}:{login}", safe="")
    asked: Sequence[tuple[str, str]] = (
        ("secret", base64.b32encode(secret).decode()),
        ("issuer", directory),
        ("algorithm", "SHA1"),
        ("digits", str(DIGITS)),
        ("period", str(STEP_SECONDS)),
    )
    return f"otpauth://totp/{label}?{urlencode(asked, quote_via=quote)}"
