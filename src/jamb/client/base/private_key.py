"""A private key in a file, as a client proves itself with one: read, sign with, and make the next one alike."""

from __future__ import annotations

import json
import time
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import cached_property
from pathlib import Path
from typing import Any
from uuid import uuid4

import jwt
from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ec import SECP256R1, EllipticCurvePrivateKey, generate_private_key
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey
from cryptography.hazmat.primitives.asymmetric.rsa import generate_private_key as generate_rsa_key
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    KeySerializationEncryption,
    NoEncryption,
    PrivateFormat,
    load_pem_private_key,
)

from jamb.core.credentials.issuing import Authority, SigningKey, certify
from jamb.core.credentials.public_keys import jwk_of
from jamb.core.errors import BadInput

_ASSERTION_SECONDS = 60
_ALGORITHM_OF_CURVE = {"secp256r1": "ES256", "secp384r1": "ES384", "secp521r1": "ES512"}


@dataclass(frozen=True)
class PrivateKey:
    """A private key and, if the file has one, the certificate that goes with it. Never shown by repr.

    `passphrase`: what the file is under; empty: nothing.
    """

    key: SigningKey = field(repr=False)
    certificate: x509.Certificate | None = None
    passphrase: str = field(default="", repr=False)

    @classmethod
    def read(cls, file: Path, passphrase: str = "") -> PrivateKey:
        """Return the key in a PEM file. Raises `BadInput` when there is none, or the passphrase does not open it."""
        return cls.of(file.read_bytes(), passphrase, str(file))

    @classmethod
    def of(cls, pem: bytes, passphrase: str = "", place: str = "the key") -> PrivateKey:
        try:
            key = load_pem_private_key(pem, passphrase.encode() or None)
            found = x509.load_pem_x509_certificates(pem) if b"-----BEGIN CERTIFICATE-----" in pem else []
        except (ValueError, TypeError, UnsupportedAlgorithm) as error:
            allowed = "a PEM file with a private key, and its passphrase if it has one"
            raise BadInput.field("key", place, allowed) from error
        if not isinstance(key, EllipticCurvePrivateKey | RSAPrivateKey | Ed25519PrivateKey):
            raise BadInput.field("key", type(key).__name__, "an EC, RSA or Ed25519 key")
        return cls(key, found[0] if found else None, passphrase)

    @classmethod
    def make(cls) -> PrivateKey:
        """Return a fresh key: EC P-256."""
        return cls(generate_private_key(SECP256R1()))

    @cached_property
    def type(self) -> str:
        """The kty of RFC 7518 section 6.1."""
        return str(jwk_of(self.key.public_key())["kty"])

    def assertion(self, client_id: str, issuer: str) -> str:
        """Return a fresh assertion by which the client proves itself, good once and for a minute (RFC 7523)."""
        now = int(time.time())
        claims = {
            "iss": client_id,
            "sub": client_id,
            "aud": issuer,
            "iat": now,
            "exp": now + _ASSERTION_SECONDS,
            "jti": uuid4().hex,
        }
        return jwt.encode(claims, self.key, self.algorithm)

    def next_one(self) -> PrivateKey:
        """Return another key of the same kind, with a certificate signed by itself if this one has such."""
        key = _another(self.key)
        if self.certificate is None or not self._signed_by_itself:
            return PrivateKey(key, None, self.passphrase)
        old, now = self.certificate, datetime.now(UTC)
        ends = (now + (old.not_valid_after_utc - old.not_valid_before_utc)).replace(microsecond=0)
        own = Authority(old.subject, key)
        made = certify(old.subject, key.public_key(), own, x509.random_serial_number(), now, ends)
        return PrivateKey(key, made, self.passphrase)

    def introduction(self, before: PrivateKey) -> dict[str, str]:
        """Return how an issuer is told of this key, as the one before was: the parameters of RFC 7517 or X.509."""
        if self.certificate is not None:
            return {"certificate": self.certificate.public_bytes(Encoding.PEM).decode()}
        if before.certificate is not None:
            hashed = None if isinstance(self.key, Ed25519PrivateKey) else SHA256()
            asked = x509.CertificateSigningRequestBuilder().subject_name(before.certificate.subject)
            return {"certificate_request": asked.sign(self.key, hashed).public_bytes(Encoding.PEM).decode()}
        return {"jwks": json.dumps({"keys": [jwk_of(self.key.public_key())]})}

    def with_certificate(self, pem: str) -> PrivateKey:
        return PrivateKey(self.key, x509.load_pem_x509_certificate(pem.encode()), self.passphrase)

    def pem(self, *, sealed: bool = False) -> bytes:
        """Return key and certificate as a file has them; `sealed`: the key under its passphrase."""
        under: KeySerializationEncryption = NoEncryption()
        if sealed and self.passphrase:
            under = BestAvailableEncryption(self.passphrase.encode())
        key = self.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, under)
        return key + (self.certificate.public_bytes(Encoding.PEM) if self.certificate is not None else b"")

    def public(self) -> dict[str, Any]:
        return jwk_of(self.key.public_key())

    @property
    def _signed_by_itself(self) -> bool:
        return self.certificate is not None and self.certificate.issuer == self.certificate.subject

    @property
    def algorithm(self) -> str:
        """By which it signs (RFC 7518 section 3.1, RFC 8037)."""
        if isinstance(self.key, EllipticCurvePrivateKey):
            return _ALGORITHM_OF_CURVE.get(self.key.curve.name, "ES256")
        return "PS256" if isinstance(self.key, RSAPrivateKey) else "EdDSA"


def _another(key: SigningKey) -> SigningKey:
    if isinstance(key, EllipticCurvePrivateKey):
        return generate_private_key(key.curve)
    if isinstance(key, RSAPrivateKey):
        return generate_rsa_key(65537, max(key.key_size, 3072))
    return Ed25519PrivateKey.generate()
