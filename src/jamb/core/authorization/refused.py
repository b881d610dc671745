"""An authorization request that is answered with an error."""

from __future__ import annotations

from jamb.core.clients.attempts import Outcome


class RequestRefused(Exception):
    """An error that is sent back to the client (RFC 6749 section 4.1.2.1)."""

    # How it is kept among the client's attempts.
    outcome = Outcome.REQUEST_REFUSED

    def __init__(self, error: str, description: str) -> None:
        super().__init__(description)
        self.error, self.description = error, description


class ChallengeMissing(RequestRefused):
    """The client asked without PKCE (RFC 7636 section 4.4.1)."""

    outcome = Outcome.CHALLENGE_MISSING
