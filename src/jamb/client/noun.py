"""One part of the API that speaks through one transport."""

from __future__ import annotations

from urllib.parse import quote

from jamb.client.transport import Transport


def part(value: str) -> str:
    """Return a value as one part of a path, whatever is in it."""
    return quote(value, safe="") or "-"


class Noun:
    """A part of the API that speaks through one transport."""

    def __init__(self, transport: Transport) -> None:
        self._transport = transport
