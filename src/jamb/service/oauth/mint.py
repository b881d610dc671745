"""Making access tokens: JWTs in the profile of RFC 9068, signed with the directory's newest key; and other JWTs."""

from __future__ import annotations

import secrets
from collections.abc import Iterable, Mapping
from datetime import datetime
from functools import cache
from typing import Any
from uuid import UUID

import orjson
from fastapi.concurrency import run_in_threadpool
from jwt.algorithms import Algorithm, ECAlgorithm, RSAAlgorithm
from jwt.utils import base64url_encode

from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.service.keys import Keyring, algorithm_of

ACCESS_TYPE, PROBE_TYPE = "at+jwt", "probe+jwt"
_SIGNERS: Mapping[SigningAlgorithm, Algorithm] = {
    SigningAlgorithm.ES256: ECAlgorithm(ECAlgorithm.SHA256),
    SigningAlgorithm.RS256: RSAAlgorithm(RSAAlgorithm.SHA256),
}


async def mint(  # noqa: PLR0913 - the claims, by name
    keyring: Keyring,
    kid: str,
    *,
    issuer: str,
    audience: str,
    subject: str,
    client_id: str,
    scope: Iterable[str],
    issued_at: int,
    seconds: int,
    sign_in: str | None = None,
    bounds: list[dict[str, Any]] | None = None,
    confirmation: Mapping[str, str] | None = None,
    kind: str = ACCESS_TYPE,
    by_way_of: Mapping[str, Any] | None = None,
) -> tuple[str, str]:
    """Return the token and its scope. `subject` is the client itself or a person (RFC 9068 section 2.2).

    `bounds` say where scope values count, as authorization details (RFC 9396 section 9.1). `confirmation`: the key or
    certificate that the token is bound to (RFC 7800); None: whoever bears it may use it. `by_way_of`: the clients that
    pass it on (RFC 8693 section 4.1).
    """
    words = " ".join(sorted(scope))
    claims: dict[str, Any] = {
        "iss": issuer,
        "aud": audience,
        "sub": subject,
        "client_id": client_id,
        "scope": words,
        "iat": issued_at,
        "exp": issued_at + seconds,
        "jti": secrets.token_urlsafe(12),
    }
    if bounds is not None:
        claims["authorization_details"] = bounds
    if confirmation is not None:
        claims["cnf"] = confirmation
    if by_way_of is not None:
        claims["act"] = by_way_of
    if sign_in is not None:
        claims["sid"] = sign_in
    return await sign(keyring, kid, kind, claims), words


async def sign(keyring: Keyring, kid: str, kind: str, claims: dict[str, Any]) -> str:
    """Return claims as a signed token of this type (RFC 7515 section 7.1)."""
    key = keyring.cached(kid)
    if key is None:
        key = await run_in_threadpool(keyring.private, kid)
    by = algorithm_of(key)
    signed = _header(kid, kind, by) + b"." + base64url_encode(orjson.dumps(claims))
    return (signed + b"." + base64url_encode(_SIGNERS[by].sign(signed, key))).decode()


async def sign_for_client(
    keyring: Keyring, directory_id: UUID, now: datetime, kind: str, claims: dict[str, Any]
) -> str:
    """Return claims that are said to a client, signed as it expects where nothing else was agreed: by RS256."""
    by = SigningAlgorithm.RS256
    kid = keyring.signing_cached(directory_id, by)
    if kid is None:
        kid = await run_in_threadpool(keyring.signing, directory_id, by, now)
    return await sign(keyring, kid, kind, claims)


@cache
def _header(kid: str, kind: str, by: SigningAlgorithm) -> bytes:
    """Return the encoded header: the same for every token of a key, so it is made once (RFC 7515 section 7.1)."""
    return base64url_encode(orjson.dumps({"typ": kind, "alg": by.value, "kid": kid}))
