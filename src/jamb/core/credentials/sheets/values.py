"""The values of a connection sheet: one client at one resource."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from jamb.core.credentials.assertions import CLIENT_ASSERTION, JWT_BEARER
from jamb.core.credentials.kinds import CredentialKind

WITHHELD = "(shown once, when it was issued)"


@dataclass(frozen=True, slots=True)
class ConnectionSheet:
    """One client's values for one resource. `secret` is None whenever it is not being shown for the first time.

    `kind`: by which kind of credential the client proves itself.
    """

    client_name: str
    issuer: str
    token_endpoint: str
    client_id: str
    resource: str
    scopes: tuple[str, ...]
    secret: str | None = None
    secret_expires_at: datetime | None = None
    kind: CredentialKind = CredentialKind.SECRET

    @property
    def assertion(self) -> tuple[tuple[str, str], ...]:
        """Return the parameters of a token request beside the common ones; the assertion itself is left to be made."""
        if self.kind is CredentialKind.SECRET:
            return ()
        if self.kind is CredentialKind.ISSUER:
            return (("grant_type", JWT_BEARER),)
        return (("grant_type", "client_credentials"), ("client_assertion_type", CLIENT_ASSERTION))

    @property
    def scope(self) -> str:
        return " ".join(self.scopes)
