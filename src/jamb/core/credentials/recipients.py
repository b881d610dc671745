"""Public keys of recipients: what is sealed to one (RFC 7516), only whoever has its private part can read."""

from __future__ import annotations

import json

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePublicKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from cryptography.hazmat.primitives.serialization import load_pem_public_key
from jwt import PyJWK
from jwt.exceptions import PyJWTError

from jamb.core.credentials.handover import LONGEST_KEY
from jamb.core.credentials.public_keys import PRIVATE_MEMBERS, Jwk, describe, jwk_of
from jamb.core.errors import BadInput

_ALLOWED = "an EC (P-256, P-384, P-521) or RSA (2048 bits and more) public key, as a JWK or in PEM"
# RFC 7518 section 4.1: how the content's key reaches the recipient, by the type of theirs.
_ALGORITHMS = {"EC": "ECDH-ES+A256KW", "RSA": "RSA-OAEP-256"}


def recipient_key(text: str) -> Jwk:
    """Return the public key in a text, with its id (RFC 7638) and the algorithm by which content is sealed to it.

    Raises:
        BadInput: nothing readable, a private, weak or signing key. Never repeats a key.
    """
    if len(text) > LONGEST_KEY:
        raise BadInput.field("key", f"{len(text)} characters", f"at most {LONGEST_KEY} characters")
    key = _from_pem(text) if "-----BEGIN" in text else _from_jwk(text)
    what, wrong = describe(key)
    if wrong is not None or not isinstance(key, EllipticCurvePublicKey | RSAPublicKey):
        raise BadInput.field("key", what, _ALLOWED)
    made = jwk_of(key)
    return {**made, "use": "enc", "alg": _ALGORITHMS[made["kty"]]}


def _from_pem(text: str) -> object:
    if "PRIVATE KEY-----" in text:
        raise _private()
    try:
        return load_pem_public_key(text.encode())
    except (ValueError, UnsupportedAlgorithm) as error:
        raise BadInput.field("key", "PEM that cannot be read", _ALLOWED) from error


def _from_jwk(text: str) -> object:
    try:
        sent = json.loads(text)
    except ValueError as error:
        raise BadInput.field("key", "neither PEM nor JSON", _ALLOWED) from error
    if not isinstance(sent, dict):
        raise BadInput.field("key", "JSON that is no object", _ALLOWED)
    if PRIVATE_MEMBERS & sent.keys():
        raise _private()
    if sent.get("use", "enc") != "enc":
        raise BadInput.field("key.use", str(sent["use"])[:40], "enc: the key must be for encryption")
    try:
        members = {name: value for name, value in sent.items() if name in {"kty", "crv", "x", "y", "n", "e"}}
        return PyJWK(members, {"EC": "ES256", "RSA": "RS256"}[sent["kty"]]).key
    except (PyJWTError, ValueError, KeyError, TypeError) as error:
        raise BadInput.field("key", "a JWK that cannot be read", _ALLOWED) from error


def _private() -> BadInput:
    next_step = "Send the public part alone. Make another key pair: this private key has left its place."
    return BadInput.field("key", "a private key", _ALLOWED, next_step)
