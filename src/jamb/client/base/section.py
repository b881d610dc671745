"""One part of the API that speaks through one transport."""

from __future__ import annotations

from urllib.parse import quote

from jamb.client.base.transport import Transport
from jamb.core.errors import BadInput


def path_segment(value: str) -> str:
    """Return a value as one part of a path, whatever is in it."""
    return quote(value, safe="") or "-"


def idempotency_header(once: str | None) -> dict[str, str]:
    """Return the header by which a change is done once, however often it is asked for with the same key."""
    if once is None:
        return {}
    if not once.isascii() or not once.isprintable() or not once.strip():
        raise BadInput.field("once", once, "printable characters of ASCII")
    return {"Idempotency-Key": f'"{once}"'}


def match_header(if_match: str | None) -> dict[str, str]:
    """Return the header by which a change is made only to what has this `version` still (RFC 9110 section 13.1.1)."""
    return {} if if_match is None else {"If-Match": "*" if if_match == "*" else f'"{if_match}"'}


class Section:
    """A part of the API that speaks through one transport."""

    def __init__(self, transport: Transport) -> None:
        self._transport = transport
