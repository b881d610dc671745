"""Key pairs made here for a client: returned once, kept nowhere. Only the certificate stays."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    PrivateFormat,
    pkcs12,
)

from jamb.core.credentials.issuing import Authority, certify, client_name, client_uri
from jamb.core.credentials.kinds import KeyType

# 20 characters of 32: 100 bits, to be typed by hand if need be.
_ALPHABET = "abcdefghjkmnpqrstuvwxyz123456789"


@dataclass(frozen=True, slots=True)
class KeyPair:
    """A fresh key pair with its self-signed certificate. Never shown by repr.

    Attributes:
        certificate: PEM.
        pkcs12: key and certificate under the passphrase (RFC 7292).
        private_key: PEM (PKCS#8, RFC 5958) under the same passphrase.
    """

    certificate: bytes
    pkcs12: bytes
    private_key: bytes
    passphrase: str

    def __repr__(self) -> str:
        return "KeyPair(…)"


def make_key_pair(
    client_id: str, name: str, organisation: str, kind: KeyType, now: datetime, ends: datetime
) -> KeyPair:
    """Make a key pair and a certificate signed by itself (RFC 5280), for signatures and client authentication."""
    key = ec.generate_private_key(ec.SECP256R1()) if kind is KeyType.P256 else rsa.generate_private_key(65537, 3072)
    subject = client_name(client_id, name, organisation)
    itself, serial = Authority(subject, key), x509.random_serial_number()
    made = certify(subject, key.public_key(), itself, serial, now, ends, uri=client_uri(client_id))
    passphrase = "-".join("".join(secrets.choice(_ALPHABET) for _ in range(5)) for _ in range(4))
    sealed = BestAvailableEncryption(passphrase.encode())
    return KeyPair(
        made.public_bytes(Encoding.PEM),
        pkcs12.serialize_key_and_certificates(name.encode(), key, made, None, sealed),
        key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, sealed),
        passphrase,
    )
