"""How a guard says no (RFC 6750 section 3), and how a probe ends."""

from __future__ import annotations

from jamb.guard.dpop import ALGORITHMS


class WouldBeLetIn(Exception):
    """A probe that passed every check. It ends here: the operation is not carried out."""


class Refused(Exception):
    """A request that is not let in: an RFC 6750 error with what is missing. `error` is empty when no token was sent.

    `reason` is for the books: finer than the error where RFC 6750 has one word for several things. `scheme`: by which
    the token was sent, or is to be sent.
    """

    def __init__(
        self, status: int, error: str, description: str, scope: str = "", reason: str = "", scheme: str = "Bearer"
    ) -> None:
        super().__init__(description)
        self.status = status
        self.error = error
        self.description = description
        self.scope = scope
        self.reason = reason or error
        self.scheme = scheme
        # Where the API says by whom its tokens are made (RFC 9728 section 5.1).
        self.metadata = ""

    def challenge(self, realm: str) -> str:
        """Return the WWW-Authenticate value (RFC 6750 section 3, RFC 9449 section 7.1)."""
        parts = [f'{self.scheme} realm="{realm}"']
        if self.scheme == "DPoP":
            parts.append(f'algs="{" ".join(ALGORITHMS)}"')
        if self.error:
            parts += [f'error="{self.error}"', f'error_description="{self.description}"']
        if self.metadata:
            parts.append(f'resource_metadata="{self.metadata}"')
        if self.scope:
            parts.append(f'scope="{self.scope}"')
        return ", ".join(parts)
