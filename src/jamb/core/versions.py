"""By what it is told whether something was changed since somebody saw it (RFC 9110 section 8.8.3)."""

from __future__ import annotations

import base64
import hashlib
import json
from typing import Any

# Of the digest: nobody gains by two states that look the same, and chance makes none.
_BYTES = 12


def version_of(state: Any) -> str:
    """Return the name of a state, of JSON's types: another state has another name. 16 characters of base64url."""
    text = json.dumps(state, sort_keys=True, separators=(",", ":"), ensure_ascii=False)
    return base64.urlsafe_b64encode(hashlib.sha256(text.encode()).digest()[:_BYTES]).decode()
