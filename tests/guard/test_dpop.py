"""Proofs of possession (RFC 9449): the standard's own vectors, and every way for one to be wrong."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec, rsa

from jamb.client.base.private_key import PrivateKey
from jamb.guard.dpop import (
    BadProof,
    SeenProofs,
    WantsNonce,
    check_time,
    check_token,
    hash_of,
    read_proof,
    thumbprint,
)

HERE = "https://server.example.com/token"
# RFC 9449 section 4.2, figure 1, and section 6.1.
VECTOR = (
    "eyJ0eXAiOiJkcG9wK2p3dCIsImFsZyI6IkVTMjU2IiwiandrIjp7Imt0eSI6IkVDIiwieCI6Imw4dEZyaHgtMzR0VjNoUklDUkRZOXpDa0RscEJoRjQyVVFV"
    "ZldWQVdCRnMiLCJ5IjoiOVZFNGpmX09rX282NHpiVFRsY3VOSmFqSG10NnY5VERWclUwQ2R2R1JEQSIsImNydiI6IlAtMjU2In19.eyJqdGkiOiItQndDM0VT"
    "YzZhY2MybFRjIiwiaHRtIjoiUE9TVCIsImh0dSI6Imh0dHBzOi8vc2VydmVyLmV4YW1wbGUuY29tL3Rva2VuIiwiaWF0IjoxNTYyMjYyNjE2fQ.2-GxA6T8lP4"
    "vfrg8v-FdWP0A0zdrj8igiMLvqRMUvwnQg4PtFLbdLXiOSsX0x7NVY-FNyJK70nfbV37xRZT3Lg"
)
KEY = "0ZcOCORZNYy-DWpqq30jZyJGHTN0d2HglBV3uiguA4I"
# Section 7.1, figures 12 and 13.
TOKEN, TOKEN_HASH = "Kz~8mXK1EalYznwH-LC-1fBAo.4Ljp~zsPE_NeO.gxU", "fUHyO2r2Z3DZ53EsNrWBb0xWXoaNy59IiKCAqksmQEo"
# RFC 7638 section 3.1.
RSA = {
    "kty": "RSA",
    "n": "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMst"
    "n64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1n91"
    "CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw",
    "e": "AQAB",
    "alg": "RS256",
    "kid": "2011-04-29",
}

OURS = PrivateKey.make()
PUBLIC = {name: value for name, value in OURS.public().items() if name in {"kty", "crv", "x", "y"}}
SMALL = rsa.generate_private_key(65537, 1024)


def test_the_standards_own_proof_key_and_token() -> None:
    proof = read_proof(VECTOR, "POST", HERE)
    assert (proof.key, proof.issued_at, proof.token_hash) == (KEY, 1562262616, "")
    assert hash_of(TOKEN) == TOKEN_HASH
    assert thumbprint(RSA) == "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"
    with pytest.raises(WantsNonce):
        check_time(proof, time.time())


def made(headers: dict[str, Any] | None = None, key: Any = None, algorithm: str = "ES256", **claims: Any) -> str:
    body = {"jti": "one", "htm": "GET", "htu": HERE, "iat": int(time.time()), "ath": hash_of(TOKEN)} | claims
    named = {"typ": "dpop+jwt", "jwk": PUBLIC} | (headers or {})
    return jwt.encode(
        {name: value for name, value in body.items() if value is not None}, key or OURS.key, algorithm, headers=named
    )


@pytest.mark.parametrize(
    "htu", [HERE, HERE + "?scope=x#y", "HTTPS://Server.Example.com:443/token", "https://server.example.com:0443/token"]
)
def test_addresses_are_compared_as_addresses(htu: str) -> None:
    proof = read_proof(made(htu=htu), "GET", "https://elsewhere.example/", HERE)
    check_time(proof, time.time())
    check_token(proof, TOKEN, thumbprint(PUBLIC))
    assert proof.once == read_proof(made(iat=1), "GET", HERE).once, "by key, id, method and address"


def _private() -> dict[str, Any]:
    key: Any = OURS.key
    return dict(jwt.algorithms.ECAlgorithm.to_jwk(key, as_dict=True))


WRONG: dict[str, Callable[[], str]] = {
    "nothing": lambda: "",
    "no JWT": lambda: "a.b.c",
    "two in one header": lambda: f"{made()},{made(jti='two')}",
    "longer than any": lambda: made(note="x" * 5000),
    "of another type": lambda: made({"typ": "jwt"}),
    "signed by nobody": lambda: jwt.encode({"jti": "x"}, None, "none", headers={"typ": "dpop+jwt", "jwk": PUBLIC}),
    "signed with a secret": lambda: made(key="a secret of thirty-two bytes or more", algorithm="HS256"),
    "signed with another key": lambda: made(key=ec.generate_private_key(ec.SECP256R1())),
    "with its private key": lambda: made({"jwk": _private()}),
    "with a symmetric key": lambda: made({"jwk": {"kty": "oct", "k": "AAAA"}}),
    "with a key that is no object": lambda: made({"jwk": "key"}),
    "with a small key": lambda: made(
        {"jwk": jwt.algorithms.RSAAlgorithm.to_jwk(SMALL.public_key(), as_dict=True)}, SMALL, "RS256"
    ),
    "without an id": lambda: made(jti=None),
    "with an id without end": lambda: made(jti="x" * 201),
    "for another method": lambda: made(htm="POST"),
    "for a method in other letters": lambda: made(htm="get"),
    "for another path": lambda: made(htu=HERE + "/"),
    "for another port": lambda: made(htu="https://server.example.com:8443/token"),
    "for http": lambda: made(htu="http://server.example.com/token"),
    "for no address": lambda: made(htu=["https://server.example.com/token"]),
    "for a port that is none": lambda: made(htu="https://server.example.com:x/token"),
    "at no time": lambda: made(iat=None),
    "at a time of words": lambda: made(iat="now"),
    "long ago": lambda: made(iat=int(time.time()) - 70),
    "in the future": lambda: made(iat=int(time.time()) + 70),
    "at a time that is no number": lambda: made(iat=float("nan")),
    "at the end of time": lambda: made(iat=float("inf")),
    "for no token": lambda: made(ath=None),
    "for another token": lambda: made(ath=hash_of(TOKEN + "x")),
}


@pytest.mark.filterwarnings("ignore:The RSA key is 1024 bits")
@pytest.mark.parametrize("name", WRONG)
def test_a_proof_that_is_wrong_proves_nothing(name: str) -> None:
    with pytest.raises(BadProof):
        proof = read_proof(WRONG[name](), "GET", HERE)
        check_time(proof, time.time())
        check_token(proof, TOKEN, thumbprint(PUBLIC))


def test_a_token_bound_to_another_key_is_not_opened_by_ours() -> None:
    with pytest.raises(BadProof, match="another key"):
        check_token(read_proof(made(), "GET", HERE), TOKEN, KEY)


def test_a_proof_counts_once_and_of_too_many_none_is_taken_unseen() -> None:
    seen = SeenProofs(most=2)
    first, other, third = (read_proof(made(jti=jti), "GET", HERE) for jti in ("1", "2", "3"))
    assert [seen.first(one) for one in (first, first, other, third)] == [True, False, True, False]
