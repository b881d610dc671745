"""The values of a connection sheet: one client at one resource."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from jamb.core.authorization.exchange import ACCESS_TOKEN
from jamb.core.clients.clients import GrantType
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.urns import CLIENT_ASSERTION, JWT_BEARER

WITHHELD = "(shown once, when it was issued)"


@dataclass(frozen=True, slots=True)
class ConnectionSheet:
    """One client's values for one resource. `secret` is None whenever it is not being shown for the first time.

    `kind`: by which kind of credential the client proves itself. `exchanges`: it calls the resource for the
    people of the tokens that it is sent (RFC 8693), not as itself.
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
    exchanges: bool = False

    @property
    def grant(self) -> tuple[tuple[str, str], ...]:
        """Return the parameters by which a token request says what it is; assertion and token are left to be made."""
        if self.kind is CredentialKind.ISSUER and not self.exchanges:
            return (("grant_type", JWT_BEARER),)
        said = [("grant_type", "client_credentials")]
        if self.exchanges:
            said = [("grant_type", GrantType.TOKEN_EXCHANGE.value), ("subject_token_type", ACCESS_TOKEN)]
        if self.kind is not CredentialKind.SECRET:
            said.append(("client_assertion_type", CLIENT_ASSERTION))
        return tuple(said)

    @property
    def scope(self) -> str:
        return " ".join(self.scopes)
