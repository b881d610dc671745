"""A proof that whoever sends a token holds the key to which it is bound (RFC 9449), and which key that is.

1. it is a JWT of type dpop+jwt, signed with the public key in its own header (section 4.3, items 1 to 7)
2. it was made for this method and this address (items 8 and 9)
3. it was made just now, or carries a value that the server gave out just now (items 10 and 11)
4. it was made for this token, and the token is bound to this key (item 12)
5. it counts once (section 11.1): the caller remembers `once`
"""

from __future__ import annotations

import base64
import hashlib
import json
import threading
import time
from collections.abc import Mapping
from dataclasses import dataclass
from functools import lru_cache
from hmac import compare_digest
from typing import Any
from urllib.parse import urlsplit

import jwt

from jamb import jose

ALGORITHMS = ("ES256", "ES384", "ES512", "RS256", "PS256", "EdDSA")
TYPE = "dpop+jwt"
# How far the clock of whoever makes proofs may be from ours (section 11.1: "on the order of seconds or minutes").
SECONDS = 60
LONGEST_PROOF = 4096
LONGEST_ID = 200
SMALLEST_RSA_BITS = 2048
# RFC 7638 section 3.2: what a key's thumbprint is made of, by its type.
_MEMBERS = {"EC": ("crv", "kty", "x", "y"), "RSA": ("e", "kty", "n"), "OKP": ("crv", "kty", "x")}
_PORTS = {"http": 80, "https": 443}


class BadProof(Exception):
    """Why a proof proves nothing: words for whoever made it, none of which are theirs."""


class WantsNonce(BadProof):
    """It was not made just now, so far as can be told: a value of the server's would tell (section 8)."""


@dataclass(frozen=True, slots=True)
class Proof:
    """A proof whose signature fits, for one method and address.

    Attributes:
        key: the thumbprint of its key (RFC 7638, base64url), as in a token's `cnf`.
        once: what must not be seen twice: the digest of key, id, method and address.
        token_hash: of the access token it was made for (`ath`); empty: for none.
    """

    key: str
    once: bytes
    issued_at: float
    nonce: str
    token_hash: str


def thumbprint(jwk: Mapping[str, Any]) -> str:
    """Return the thumbprint of a public key (RFC 7638 section 3). Raises `BadProof` for a key of another type."""
    kind = jwk.get("kty")
    names = _MEMBERS.get(kind, ()) if isinstance(kind, str) else ()
    members = {name: jwk.get(name) for name in names}
    if not members or not all(isinstance(value, str) for value in members.values()):
        raise BadProof("its jwk is no public key that is accepted")
    text = json.dumps(members, separators=(",", ":"), sort_keys=True)
    return _encoded(hashlib.sha256(text.encode()).digest())


def hash_of(token: str) -> str:
    """Return what a proof says of its token (section 4.2, `ath`)."""
    return _encoded(hashlib.sha256(token.encode()).digest())


def read_proof(text: str, method: str, *urls: str) -> Proof:
    """Return what a proof says, if it was made for this method and one of these addresses.

    Raises:
        BadProof: it is none, or for something else.
    """
    header, claims = _verified(text)
    jti, htu, issued_at = claims.get("jti"), claims.get("htu"), claims.get("iat")
    if not isinstance(jti, str) or not 1 <= len(jti) <= LONGEST_ID:
        raise BadProof(f"it needs a jti of 1 to {LONGEST_ID} characters")
    if claims.get("htm") != method:
        raise BadProof("its htm is not the method of the request")
    if not isinstance(htu, str) or _normal(htu) not in map(_normal, urls):
        raise BadProof("its htu is not the address of the request")
    if isinstance(issued_at, bool) or not isinstance(issued_at, int | float):
        raise BadProof("its iat is no number of seconds")
    nonce, token_hash = claims.get("nonce", ""), claims.get("ath", "")
    if not isinstance(nonce, str) or not isinstance(token_hash, str):
        raise BadProof("its nonce or ath is no text")
    key = thumbprint(header["jwk"])
    once = hashlib.sha256("\n".join((key, jti, method, _normal(htu) or "")).encode(errors="replace")).digest()
    return Proof(key, once, float(issued_at), nonce, token_hash)


def check_time(proof: Proof, now: float) -> None:
    """Raise `WantsNonce` unless a proof was made just now, by our own clock."""
    if abs(proof.issued_at - now) > SECONDS:
        raise WantsNonce("it was not made just now: is the client's clock right?")


def check_token(proof: Proof, token: str, bound_to: str) -> None:
    """Raise `BadProof` unless a proof was made for this token, with the key that the token is bound to."""
    if not compare_digest(proof.token_hash.encode(), hash_of(token).encode()):
        raise BadProof("its ath is not the hash of the token")
    if not compare_digest(proof.key.encode(), bound_to.encode()):
        raise BadProof("the token is bound to another key")


def challenge(realm: str, error: str = "", described: str = "") -> str:
    """Return the WWW-Authenticate value that asks for a bound token (section 7.1)."""
    parts = [f'DPoP realm="{realm}"', f'algs="{" ".join(ALGORITHMS)}"']
    if error:
        parts += [f'error="{error}"', f'error_description="{described}"']
    return ", ".join(parts)


class SeenProofs:
    """What a process saw of late, so that nothing counts twice in it. Safe to use from several threads."""

    def __init__(self, most: int = 200_000) -> None:
        self._most = most
        self._ends: dict[bytes, float] = {}
        self._lock = threading.Lock()

    def first(self, proof: Proof) -> bool:
        """Tell whether a proof comes for the first time. False also where more is held than can be."""
        now = time.monotonic()
        with self._lock:
            if len(self._ends) >= self._most:
                # In the order they came, so the old ones stand in front.
                self._ends = {one: ends for one, ends in self._ends.items() if ends > now}
            if self._ends.get(proof.once, 0.0) > now or len(self._ends) >= self._most:
                return False
            self._ends[proof.once] = now + 2 * SECONDS
            return True


def _verified(text: str) -> tuple[Mapping[str, Any], Mapping[str, Any]]:
    if len(text) > LONGEST_PROOF or "," in text:
        # Section 4.3, item 1: two headers are one with a comma.
        raise BadProof(f"send one proof, of at most {LONGEST_PROOF} characters")
    try:
        read = jose.read(text)
        header = read.header
        algorithm, jwk = header.get("alg"), header.get("jwk")
        if header.get("typ") != TYPE or algorithm not in ALGORITHMS or not isinstance(jwk, dict):
            raise BadProof(f"it must be a {TYPE} with its jwk, signed by one of {', '.join(ALGORITHMS)}")
        if {"d", "k", "p", "q"} & jwk.keys():
            raise BadProof("its jwk holds a private key, which is now known: make another")
        names = _MEMBERS.get(str(jwk.get("kty")), ())
        key = _key(tuple((name, str(jwk[name])) for name in names if name in jwk), algorithm)
        if jwk.get("kty") == "RSA" and key.key.key_size < SMALLEST_RSA_BITS:
            raise BadProof(f"its RSA key has less than {SMALLEST_RSA_BITS} bits")
        if not jose.fits(read, algorithm, key.key):
            raise BadProof("its signature does not fit its jwk")
        claims = jose.object_of(read.claims)
    except (jwt.PyJWTError, ValueError, TypeError) as error:
        raise BadProof("it is no signed JWT, or its jwk is no key") from error
    return header, claims


@lru_cache(maxsize=2_000)
def _key(members: tuple[tuple[str, str], ...], algorithm: str) -> jwt.PyJWK:
    """Return a key ready to verify with: to make it costs more than to use it."""
    return jwt.PyJWK(dict(members), algorithm)


def _normal(url: str) -> str | None:
    """Return an address as two of them are compared (item 9: without query and fragment; RFC 3986 section 6.2)."""
    try:
        parts = urlsplit(url)
        port = parts.port
    except ValueError:
        return None
    scheme, host = parts.scheme.lower(), (parts.hostname or "").lower()
    named = "" if port is None or port == _PORTS.get(scheme) else f":{port}"
    return f"{scheme}://{host}{named}{parts.path or '/'}"


def _encoded(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()
