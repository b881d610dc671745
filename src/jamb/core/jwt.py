"""What a JWT says, read before anything of it is believed (RFC 7519): its header and claims as JSON objects of text."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Mapping
from typing import Any

from jamb.core.text import UnfitText, read_json


def read_token(token: str) -> tuple[Mapping[str, Any], Mapping[str, Any]]:
    """Return header and claims of a signed JWT in its compact form (RFC 7515 section 3.1).

    Raises:
        UnfitText: it is none, or has text that cannot be kept.
    """
    parts = token.split(".")
    if len(parts) != 3:
        raise UnfitText("it has not three parts")
    return _object(parts[0]), _object(parts[1])


def key_id(token: str) -> str:
    """Return the id of the key by which a JWT says to be signed (RFC 7515 section 4.1.4). Raises `UnfitText`."""
    named = _object(token.partition(".")[0]).get("kid")
    return named if isinstance(named, str) else ""


def _object(part: str) -> Mapping[str, Any]:
    try:
        read = read_json(base64.urlsafe_b64decode(part.encode("ascii") + b"=" * (-len(part) % 4)))
    except (binascii.Error, UnicodeEncodeError) as error:
        raise UnfitText("it is not base64url") from error
    if not isinstance(read, dict):
        raise UnfitText("a part of it is no JSON object")
    return read
