"""Certificates made here (RFC 5280), and the requests for them that come from outside (PKCS#10, RFC 2986).

Keys, serial numbers and moments are given: nothing here draws lots or looks at a clock.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from cryptography import x509
from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePrivateKey, EllipticCurvePublicKey
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PrivateKey, Ed25519PublicKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPrivateKey, RSAPublicKey
from cryptography.hazmat.primitives.hashes import MD5, SHA1, SHA256
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from jamb.core.credentials.public_keys import PublicKey, describe
from jamb.core.errors import BadInput

LONGEST_REQUEST = 20_000
# Clocks differ: a certificate is good from a little before it is made.
_BACKDATED = timedelta(minutes=5)
SigningKey = EllipticCurvePrivateKey | RSAPrivateKey | Ed25519PrivateKey


@dataclass(frozen=True, slots=True)
class Authority:
    """Who signs: a name with the key that stands for it."""

    name: x509.Name
    key: SigningKey


def client_name(client_id: str, name: str, organisation: str) -> x509.Name:
    """Return the subject of a client's certificate; its UID is the client id."""
    return x509.Name(
        [
            x509.NameAttribute(NameOID.COMMON_NAME, name[:64]),
            x509.NameAttribute(NameOID.USER_ID, client_id),
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation[:64]),
        ]
    )


def client_uri(client_id: str) -> str:
    return f"urn:jamb:client:{client_id}"


def authority_name(organisation: str) -> x509.Name:
    return x509.Name(
        [
            x509.NameAttribute(NameOID.COMMON_NAME, f"{organisation[:48]} clients"),
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, organisation[:64]),
        ]
    )


def certify(
    subject: x509.Name,
    public_key: PublicKey,
    by: Authority,
    serial: int,
    now: datetime,
    ends: datetime,
    *,
    uri: str = "",
    of_authority: bool = False,
) -> x509.Certificate:
    """Return a certificate for a client's signatures and authentication or, with `of_authority`, for issuing such.

    Args:
        uri: what the client is called where names of people mean nothing; empty: it has none.
    """
    usage = x509.KeyUsage(
        digital_signature=not of_authority,
        content_commitment=False,
        key_encipherment=False,
        data_encipherment=False,
        key_agreement=False,
        key_cert_sign=of_authority,
        crl_sign=of_authority,
        encipher_only=False,
        decipher_only=False,
    )
    made = (
        x509.CertificateBuilder()
        .subject_name(subject)
        .issuer_name(by.name)
        .public_key(public_key)
        .serial_number(serial)
        .not_valid_before(now - _BACKDATED)
        .not_valid_after(ends)
        # RFC 5280 section 4.2.1.9: an authority that issues to clients alone, and to no further authority.
        .add_extension(x509.BasicConstraints(ca=of_authority, path_length=0 if of_authority else None), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(public_key), critical=False)
    )
    if not of_authority:
        made = made.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), critical=False)
    if uri:
        named = x509.SubjectAlternativeName([x509.UniformResourceIdentifier(uri)])
        made = made.add_extension(named, critical=False)
    if by.name != subject:
        above = x509.AuthorityKeyIdentifier.from_issuer_public_key(by.key.public_key())
        made = made.add_extension(above, critical=False)
    return made.sign(by.key, None if isinstance(by.key, Ed25519PrivateKey) else SHA256())


def read_request(upload: bytes) -> PublicKey:
    """Return the public key that a certificate is asked for: whoever asks has shown to hold its private part.

    What the request says of names and uses is passed over: those are ours to give.

    Raises:
        BadInput: nothing readable, a signature that is not by its key, a weak key or hash. Never repeats the upload.
    """
    allowed = "a request for a certificate (PKCS#10), in PEM or DER"
    if len(upload) > LONGEST_REQUEST:
        raise BadInput.field("request", f"{len(upload)} bytes", f"at most {LONGEST_REQUEST} bytes")
    if b"PRIVATE KEY-----" in upload:
        next_step = "Take the request alone. Make another key pair: this private key has left its place."
        raise BadInput.field("request", "a private key", allowed, next_step)
    try:
        armoured = b"-----BEGIN" in upload
        asked = x509.load_pem_x509_csr(upload) if armoured else x509.load_der_x509_csr(upload)
        key = asked.public_key()
        what, wrong = describe(key)
        hashed = asked.signature_hash_algorithm
        sound = asked.is_signature_valid
    except (ValueError, UnsupportedAlgorithm) as error:
        raise BadInput.field("request", f"{len(upload)} bytes that are none", allowed) from error
    if wrong is not None or not isinstance(key, EllipticCurvePublicKey | RSAPublicKey | Ed25519PublicKey):
        raise BadInput.field("request.key", what, wrong or "an EC, RSA or Ed25519 key", "Make a stronger key pair.")
    if isinstance(hashed, MD5 | SHA1):
        raise BadInput.field("request.signature", hashed.name, "SHA-256 or stronger", "Make the request again.")
    if not sound:
        raise BadInput.field("request.signature", "one that its key did not make", "the request as it was made")
    return key
