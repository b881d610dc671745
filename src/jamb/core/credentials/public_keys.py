"""Public keys as JSON Web Keys (RFC 7517), checked before a client may prove itself with them."""

from __future__ import annotations

import base64
import json
from collections.abc import Iterable, Mapping
from hashlib import sha256
from typing import Any

from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, SECP384R1, SECP521R1, EllipticCurvePublicKey
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from jwt import PyJWK
from jwt.algorithms import ECAlgorithm, OKPAlgorithm, RSAAlgorithm
from jwt.exceptions import PyJWTError

from jamb.core.errors import BadInput, Violation, shorten

MOST_KEYS = 20
SMALLEST_RSA_BITS = 2048
# 128 bits of strength (NIST SP 800-57 part 1 table 2).
RSA_BITS_TODAY = 3072
_CURVES = (SECP256R1, SECP384R1, SECP521R1)
# RFC 7518 section 6.2.1.1 names them so; the library by another standard.
_CURVE_NAMES = {"secp256r1": "P-256", "secp384r1": "P-384", "secp521r1": "P-521"}
# RFC 7518 section 6: the members that make a key private, and those of a symmetric one.
PRIVATE_MEMBERS = frozenset({"d", "p", "q", "dp", "dq", "qi", "oth", "k"})
# RFC 7638 section 3.2: the members that identify a key, by type.
_IDENTIFYING = {"EC": ("crv", "kty", "x", "y"), "RSA": ("e", "kty", "n"), "OKP": ("crv", "kty", "x")}
PublicKey = EllipticCurvePublicKey | RSAPublicKey | Ed25519PublicKey
Jwk = dict[str, Any]


def thumbprint(jwk: Mapping[str, Any]) -> str:
    """Return the thumbprint of a key (RFC 7638): SHA-256 over its identifying members, base64url."""
    members = {name: jwk[name] for name in _IDENTIFYING[jwk["kty"]]}
    return _base64url(sha256(json.dumps(members, sort_keys=True, separators=(",", ":")).encode()).digest())


def describe(key: object) -> tuple[str, str | None]:
    """Return what a key is, in words, and what is wrong with it (None: nothing)."""
    if isinstance(key, EllipticCurvePublicKey):
        name = _CURVE_NAMES.get(key.curve.name, key.curve.name)
        return f"EC {name}", None if isinstance(key.curve, _CURVES) else "P-256, P-384 or P-521"
    if isinstance(key, RSAPublicKey):
        weak = key.key_size < SMALLEST_RSA_BITS
        return f"RSA {key.key_size}", f"at least {SMALLEST_RSA_BITS} bits" if weak else None
    if isinstance(key, Ed25519PublicKey):
        return "Ed25519", None
    return type(key).__name__.strip("_"), "an EC, RSA or Ed25519 key"


def jwk_of(key: PublicKey, kid: str = "") -> Jwk:
    """Return a public key as a JWK; its id is its thumbprint unless one is given."""
    if isinstance(key, EllipticCurvePublicKey):
        made: Jwk = ECAlgorithm.to_jwk(key, as_dict=True)
    elif isinstance(key, RSAPublicKey):
        made = RSAAlgorithm.to_jwk(key, as_dict=True)
    else:
        made = OKPAlgorithm.to_jwk(key, as_dict=True)
    jwk = {name: value for name, value in made.items() if name in {"kty", "crv", "x", "y", "n", "e"}}
    return {**jwk, "kid": kid or thumbprint(jwk)}


def weak_among(keys: Iterable[Mapping[str, Any]]) -> str:
    """Return what the weakest of some public keys is, if it is weaker than what is made today; else nothing."""
    sizes = [len(base64.urlsafe_b64decode(one["n"] + "==")) * 8 for one in keys if one.get("kty") == "RSA"]
    smallest = min(sizes, default=RSA_BITS_TODAY)
    return f"RSA {smallest}" if smallest < RSA_BITS_TODAY else ""


def key_set(document: object) -> tuple[Jwk, ...]:
    """Return the public keys of a JWK Set (RFC 7517 section 5), each with an id, and nothing else of it.

    Raises:
        BadInput: no set, no key or too many, a private, symmetric or weak one, an id twice. Never repeats a key.
    """
    keys = document.get("keys") if isinstance(document, Mapping) else None
    if not isinstance(keys, list) or not all(isinstance(one, Mapping) for one in keys):
        raise BadInput.field("keys", _kind_of(document), 'a JWK Set (RFC 7517), as {"keys": [...]}')
    if not 1 <= len(keys) <= MOST_KEYS:
        raise BadInput.field("keys", f"{len(keys)} keys", f"1 to {MOST_KEYS}")
    found: list[Jwk] = []
    violations: list[Violation] = []
    for place, sent in enumerate(keys):
        checked = _check(sent, f"keys.{place}", {one["kid"] for one in found})
        if isinstance(checked, Violation):
            violations.append(checked)
        else:
            found.append(checked)
    if violations:
        raise BadInput("This key set cannot be used.", violations=tuple(violations))
    return tuple(found)


def same_keys(one: Iterable[Mapping[str, Any]], other: Iterable[Mapping[str, Any]]) -> bool:
    return not {thumbprint(key) for key in one}.isdisjoint(thumbprint(key) for key in other)


def _check(sent: Mapping[str, Any], where: str, taken: set[str]) -> Jwk | Violation:
    if PRIVATE_MEMBERS & sent.keys():
        said = "Make another key pair: this private key has left its place."
        return Violation(where, "a private or symmetric key", "the public part alone", said)
    if sent.get("use", "sig") != "sig":
        return Violation(f"{where}.use", shorten(str(sent["use"])), "sig: the key must be for signatures")
    try:
        key = PyJWK(dict(sent)).key if "alg" in sent else PyJWK(dict(sent), _algorithm_for(sent)).key
    except (PyJWTError, ValueError, KeyError, TypeError):
        return Violation(where, shorten(str(sent.get("kty", "no kty"))), "a whole EC, RSA or OKP key (RFC 7518)")
    what, wrong = describe(key)
    if wrong is not None:
        return Violation(where, what, wrong)
    made = jwk_of(key, str(sent.get("kid", ""))[:120])
    return Violation(f"{where}.kid", made["kid"], "each id once") if made["kid"] in taken else made


def _algorithm_for(sent: Mapping[str, Any]) -> str:
    by_curve = {"P-256": "ES256", "P-384": "ES384", "P-521": "ES512", "Ed25519": "EdDSA"}
    return by_curve[sent["crv"]] if "crv" in sent else {"RSA": "RS256"}[sent["kty"]]


def _kind_of(document: object) -> str:
    return "an object without keys" if isinstance(document, Mapping) else type(document).__name__


def _base64url(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()
