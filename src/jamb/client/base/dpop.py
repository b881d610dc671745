"""Tokens bound to a key that the program holds (RFC 9449): whoever steals one has not the key.

The key lives in memory for as long as the program, unless one is given. Values of the server's (section 8) are kept for
each origin, and what a server refuses for want of one is sent again with it.
"""

from __future__ import annotations

import base64
import hashlib
import threading
import time
from typing import Any
from uuid import uuid4

import httpx
import jwt

from jamb.client.base.private_key import PrivateKey
from jamb.core.credentials.public_keys import jwk_of, thumbprint

_WANTS_NONCE = "use_dpop_nonce"
_PUBLIC = ("kty", "crv", "x", "y", "n", "e")


class ProofKey:
    """Makes proofs of possession, one for each request. Safe to share between threads."""

    def __init__(self, key: PrivateKey | None = None) -> None:
        self._key = key or PrivateKey.make()
        public = jwk_of(self._key.key.public_key())
        self._jwk = {name: public[name] for name in _PUBLIC if name in public}
        self._nonces: dict[str, str] = {}
        self._lock = threading.Lock()

    def __repr__(self) -> str:
        return f"ProofKey(kty={self._jwk['kty']!r})"

    @property
    def thumbprint(self) -> str:
        """Of the public key (RFC 7638), as tokens that are bound to it name it."""
        return thumbprint(self._jwk)

    def prove(self, request: httpx.Request, token: str = "", nonce: str = "") -> None:
        """Put a fresh proof on a request, with the token that it is for. `nonce`: else the server's last."""
        now, url = int(time.time()), request.url.copy_with(query=None, fragment=None)
        claims: dict[str, Any] = {"jti": uuid4().hex, "htm": request.method, "htu": str(url), "iat": now}
        with self._lock:
            nonce = nonce or self._nonces.get(_origin(request.url), "")
        if nonce:
            claims["nonce"] = nonce
        if token:
            claims["ath"] = _encoded(hashlib.sha256(token.encode()).digest())
            request.headers["Authorization"] = f"DPoP {token}"
        headers = {"typ": "dpop+jwt", "jwk": self._jwk}
        request.headers["DPoP"] = jwt.encode(claims, self._key.key, self._key.algorithm, headers=headers)

    def wants_another(self, answer: httpx.Response) -> bool:
        """Keep what the server gives out; tell whether it refused for want of it."""
        nonce = answer.headers.get("DPoP-Nonce")
        if not nonce:
            return False
        with self._lock:
            known = self._nonces.get(_origin(answer.request.url))
            self._nonces[_origin(answer.request.url)] = nonce
        said = answer.text if answer.status_code == httpx.codes.BAD_REQUEST else answer.headers.get("WWW-Authenticate")
        return _WANTS_NONCE in str(said) and known != nonce


def _origin(url: httpx.URL) -> str:
    return f"{url.scheme}://{url.netloc.decode()}"


def _encoded(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()
