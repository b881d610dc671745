"""Is this access token good for this API, and does it carry the permission? RFC 9068 section 4, RFC 6750 section 3.1.

1. the header names a JWT access token and an asymmetric algorithm that we accept
2. the signature fits a key of the issuer
3. issuer, audience and lifetime fit
4. the scope carries one of the permissions that unlock the operation
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Any

import jwt

# Only asymmetric ones: with these a guard cannot be tricked into checking a signature with a public key as a secret.
ALGORITHMS = ("ES256", "RS256", "EdDSA")
CLOCK_SKEW_SECONDS = 30
LONGEST_TOKEN = 8192


class Refused(Exception):
    """A request that is not let in: an RFC 6750 error with what is missing. `error` is empty when no token was sent."""

    def __init__(self, status: int, error: str, description: str, scope: str = "") -> None:
        super().__init__(description)
        self.status = status
        self.error = error
        self.description = description
        self.scope = scope

    def challenge(self, realm: str) -> str:
        """Return the WWW-Authenticate value (RFC 6750 section 3)."""
        parts = [f'Bearer realm="{realm}"']
        if self.error:
            parts += [f'error="{self.error}"', f'error_description="{self.description}"']
        if self.scope:
            parts.append(f'scope="{self.scope}"')
        return ", ".join(parts)


@dataclass(frozen=True, slots=True)
class TokenClaims:
    """What a verified token says."""

    client_id: str
    subject: str
    scope: frozenset[str]
    issued_at: int
    expires_at: int

    @property
    def delegated(self) -> bool:
        """Tell whether the client acts for somebody else than itself (RFC 9068 section 2.2)."""
        return self.subject != self.client_id


def verify(token: str, issuer: str, audience: str, key_of: Callable[[str], jwt.PyJWK | None]) -> TokenClaims:
    """Return the claims of a good token, or raise `Refused` with error invalid_token.

    Args:
        key_of: returns the issuer's key of an id, or None when the issuer has no such key.
    """
    if len(token) > LONGEST_TOKEN:
        raise _invalid("the token is too long")
    try:
        header = jwt.get_unverified_header(token)
    except jwt.InvalidTokenError as error:
        raise _invalid("the token is not a JWT") from error
    if str(header.get("typ", "")).lower() not in {"at+jwt", "application/at+jwt"}:
        raise _invalid("the token is not an access token")
    if header.get("alg") not in ALGORITHMS:
        raise _invalid("the token's algorithm is not accepted")
    key = key_of(str(header.get("kid", "")))
    if key is None:
        raise _invalid("the token is signed with a key that the issuer does not publish")
    try:
        claims: dict[str, Any] = jwt.decode(
            token,
            key,
            algorithms=[key.algorithm_name],
            audience=audience,
            issuer=issuer,
            leeway=CLOCK_SKEW_SECONDS,
            options={"require": ["iss", "exp", "aud", "sub", "client_id", "iat", "jti"]},
        )
    except jwt.ExpiredSignatureError as error:
        raise _invalid("the token has run out") from error
    except jwt.InvalidAudienceError as error:
        raise _invalid("the token is for another resource") from error
    except jwt.InvalidIssuerError as error:
        raise _invalid("the token is from another issuer") from error
    except jwt.InvalidTokenError as error:
        raise _invalid("the token does not verify") from error
    return TokenClaims(
        str(claims["client_id"]),
        str(claims["sub"]),
        frozenset(str(claims.get("scope", "")).split()),
        int(claims["iat"]),
        int(claims["exp"]),
    )


def require_permission(claims: TokenClaims, any_of: Iterable[str]) -> None:
    """Raise `Refused` with error insufficient_scope unless the token carries one of the permissions."""
    names = list(any_of)
    if not claims.scope.intersection(names):
        raise Refused(
            403, "insufficient_scope", f"the token lacks the permission {' or '.join(names)}", " ".join(names[:1])
        )


def _invalid(description: str) -> Refused:
    return Refused(401, "invalid_token", description)
