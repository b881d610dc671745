"""What people paste to find whose a credential is: a secret's hint, or a thumbprint in any of its spellings."""

from __future__ import annotations

import base64
import re
from dataclasses import dataclass

from jamb.core.credentials.secrets import PREFIX

_BASE64URL = re.compile(r"[A-Za-z0-9_-]{43}")
_SHORTEST_HEX, _SHA256_HEX = 8, 64


@dataclass(frozen=True, slots=True)
class LookedFor:
    """A credential is meant whose hint begins so, or one of whose keys has this thumbprint; empty: not looked for.

    `thumbprint`: SHA-256, base64url: of a certificate (x5t#S256, RFC 7515) or of a key (RFC 7638).
    """

    hint: str = ""
    thumbprint: str = ""


def credential_meant(text: str) -> LookedFor | None:
    """Return which credential a text may mean; None when it cannot mean one."""
    said = text.strip().rstrip("…")
    if said.startswith(PREFIX) and len(said) > len(PREFIX):
        return LookedFor(hint=said)
    digits = re.sub(r"[\s:]", "", said.lower().removeprefix("sha256"))
    if re.fullmatch(r"[0-9a-f]+", digits):
        if len(digits) == _SHA256_HEX:
            return LookedFor(thumbprint=base64.urlsafe_b64encode(bytes.fromhex(digits)).rstrip(b"=").decode())
        if _SHORTEST_HEX <= len(digits) < _SHA256_HEX:
            # What lists show of a certificate are the first twelve digits.
            return LookedFor(hint=f"sha256 {digits[:12]}")
    return LookedFor(thumbprint=said) if _BASE64URL.fullmatch(said) else None
