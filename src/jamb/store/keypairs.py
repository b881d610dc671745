"""Key pairs made here for a client: returned once, kept nowhere. Only the certificate stays."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    PrivateFormat,
    pkcs12,
)
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from jamb.core.credentials import KeyType

# 20 characters of 32: 100 bits, to be typed by hand if need be.
_ALPHABET = "abcdefghjkmnpqrstuvwxyz123456789"
_BACKDATED = timedelta(minutes=5)


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
    subject = x509.Name(
        [
            x509.NameAttribute(NameOID.COMMON_NAME, name[:64]),
            x509.NameAttribute(NameOID.USER_ID, client_id),
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation[:64]),
        ]
    )
    usage = x509.KeyUsage(
        digital_signature=True, content_commitment=False, key_encipherment=False, data_encipherment=False,
        key_agreement=False, key_cert_sign=False, crl_sign=False, encipher_only=False, decipher_only=False,
    )  # fmt: skip
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        # Clocks differ: it is good from a little before it is made.
        .not_valid_before(now - _BACKDATED)
        .not_valid_after(ends)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), critical=False)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key.public_key()), critical=False)
        .sign(key, SHA256())
    )
    passphrase = "-".join("".join(secrets.choice(_ALPHABET) for _ in range(5)) for _ in range(4))
    sealed = BestAvailableEncryption(passphrase.encode())
    return KeyPair(
        made.public_bytes(Encoding.PEM),
        pkcs12.serialize_key_and_certificates(name.encode(), key, made, None, sealed),
        key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, sealed),
        passphrase,
    )
