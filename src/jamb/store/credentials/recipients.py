"""Sealing to a public key (JWE, RFC 7516): a fresh content key each time, wrapped for the recipient."""

from __future__ import annotations

from joserfc import jwe
from joserfc.jwk import JWKRegistry

from jamb.core.credentials.public_keys import Jwk

_CONTENT = "A256GCM"


def seal_to(key: Jwk, plain: bytes) -> str:
    """Return the JWE in compact form; its header names the key and says that the content is JSON."""
    header = {"alg": key["alg"], "enc": _CONTENT, "kid": key["kid"], "cty": "json"}
    return jwe.encrypt_compact(header, plain, JWKRegistry.import_key(key), algorithms=[key["alg"], _CONTENT])
