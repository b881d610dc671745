"""One-time links: what opens one stands behind its # (RFC 3986 section 3.5), which browsers send to nobody."""

from __future__ import annotations

import base64
import binascii
import re

KEY_BYTES = 32
# What stands behind the # of a link: 32 bytes in base64url.
LINK_KEY = re.compile(r"[A-Za-z0-9_-]{43}\Z")


def link_of(base_url: str, page: str, identity: str, key: bytes) -> str:
    """Return the link: the page where it is opened, and behind the # what opens it."""
    return f"{base_url}/{page}/{identity}#{base64.urlsafe_b64encode(key).decode().rstrip('=')}"


def key_from(text: str) -> bytes | None:
    """Return the key of a link's last part; None for what cannot be one."""
    try:
        key = base64.b64decode(text + "=" * (-len(text) % 4), altchars=b"-_", validate=True)
    except (binascii.Error, ValueError):
        return None
    return key if len(key) == KEY_BYTES else None
