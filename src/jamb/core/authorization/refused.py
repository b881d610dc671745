"""An authorization request that is answered with an error."""

from __future__ import annotations


class RequestRefused(Exception):
    """An error that is sent back to the client (RFC 6749 section 4.1.2.1)."""

    def __init__(self, error: str, description: str) -> None:
        super().__init__(description)
        self.error, self.description = error, description
