"""What a JWT says, read before anything of it is believed (RFC 7519): its header and claims as JSON objects of text."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from jamb import jose
from jamb.core.text import UnfitText, read_json


def read_signed(token: str) -> tuple[jose.Signed, Mapping[str, Any]]:
    """Return a JWT in its compact form (RFC 7515 section 3.1), and its claims.

    Raises:
        UnfitText: it is none, or has text that cannot be kept.
    """
    try:
        read = jose.read(token, _header)
    except jose.NotGood as error:
        raise UnfitText(str(error)) from error
    return read, _object(read.claims)


def key_id(token: str) -> str:
    """Return the id of the key by which a JWT says to be signed (RFC 7515 section 4.1.4). Raises `UnfitText`."""
    try:
        # What is not ASCII is not base64url either.
        named = _header(token.partition(".")[0].encode("ascii", "replace")).get("kid")
    except jose.NotGood as error:
        raise UnfitText(str(error)) from error
    return named if isinstance(named, str) else ""


def _header(part: bytes) -> Mapping[str, Any]:
    return jose.header_of(part, _object)


def _object(part: bytes) -> Mapping[str, Any]:
    read = read_json(part)
    if not isinstance(read, dict):
        raise UnfitText("a part of it is no JSON object")
    return read
