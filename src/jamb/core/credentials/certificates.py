"""X.509 certificates of clients (RFC 5280): read from what people upload, and checked before one is trusted."""

from __future__ import annotations

import base64
import re
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import TypeVar

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric.ec import EllipticCurvePublicKey
from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey
from cryptography.hazmat.primitives.asymmetric.rsa import RSAPublicKey
from cryptography.hazmat.primitives.hashes import MD5, SHA1, SHA256
from cryptography.hazmat.primitives.serialization import Encoding, pkcs7
from cryptography.x509.oid import ExtendedKeyUsageOID

from jamb.core.credentials.public_keys import Jwk, describe, jwk_of
from jamb.core.errors import BadInput, Violation, shorten

LONGEST_UPLOAD = 100_000
_ARMOUR = re.compile(rb"-----BEGIN ([A-Z0-9 ]+)-----")
_Kind = TypeVar("_Kind", bound=x509.ExtensionType)


@dataclass(frozen=True, slots=True)
class Certificate:
    """One certificate with what people compare it by.

    Attributes:
        der: the certificate itself.
        thumbprint: SHA-256 over it, in hexadecimal digits; as `x5t#S256` (RFC 7515 section 4.1.8) in `jwk`.
        sha1: the older thumbprint that many tools still show.
        key: what the key is, in words.
        jwk: the public key, with its id.
    """

    der: bytes
    subject: str
    issued_by: str
    serial: str
    starts_at: datetime
    ends_at: datetime
    thumbprint: str
    sha1: str
    key: str
    jwk: Jwk

    @property
    def pem(self) -> str:
        return pem_of(self.der)


def pem_of(der: bytes) -> str:
    """Return a certificate in PEM (RFC 7468)."""
    return x509.load_der_x509_certificate(der).public_bytes(Encoding.PEM).decode()


def read_certificate(upload: bytes) -> Certificate:
    """Return the client's certificate from PEM, DER or a PKCS#7 bundle (RFC 2315), not yet checked.

    Of several, the one that is no authority's is the client's; the chain above it is left out.

    Raises:
        BadInput: a private key, nothing readable, or not exactly one certificate of a client. Never repeats the upload.
    """
    if len(upload) > LONGEST_UPLOAD:
        raise BadInput.field("certificate", f"{len(upload)} bytes", f"at most {LONGEST_UPLOAD} bytes")
    kinds = [match.decode() for match in _ARMOUR.findall(upload)]
    if any("PRIVATE KEY" in kind for kind in kinds):
        next_step = "Take the certificate alone. Make another key pair: this private key has left its place."
        raise BadInput.field("certificate", "a private key", "a certificate, never a private key", next_step)
    if "CERTIFICATE REQUEST" in kinds or "NEW CERTIFICATE REQUEST" in kinds:
        raise BadInput.field("certificate", "a request for a certificate", "the certificate that was issued for it")
    found = _load(upload, kinds)
    own = [one for one in found if not _of_authority(one)] or found
    if len(own) != 1:
        names = "; ".join(shorten(_name(one.subject)) for one in own[:5])
        raise BadInput.field("certificate", f"{len(own)} certificates: {names}", "one, the client's own")
    return _certificate(own[0])


def check_certificate(upload: Certificate, now: datetime, latest: datetime) -> None:
    """Raise `BadInput` naming each reason why a certificate cannot be trusted with a client.

    Args:
        latest: the latest end that the directory's policy allows.
    """
    parsed = x509.load_der_x509_certificate(upload.der)
    faults: list[Violation] = []

    def fault(part: str, sent: str, allowed: str, remedy: str = "") -> None:
        faults.append(Violation(f"certificate.{part}", sent, allowed, remedy))

    _, wrong = describe(parsed.public_key())
    if wrong is not None:
        fault("key", upload.key, wrong, "Make a stronger key pair.")
    if isinstance(parsed.signature_hash_algorithm, MD5 | SHA1):
        fault("signature", parsed.signature_hash_algorithm.name, "SHA-256 or stronger", "Have it issued again.")
    if upload.ends_at <= now:
        fault("end", f"{upload.ends_at:%Y-%m-%d %H:%M} UTC", "an end to come", "Have it renewed.")
    elif upload.ends_at > latest:
        allowed = f"an end by {latest:%Y-%m-%d}: the policy's longest life of keys"
        fault(
            "end",
            f"{upload.ends_at:%Y-%m-%d}",
            allowed,
            "Have it issued for less, or have a steward change the policy.",
        )
    if upload.starts_at >= upload.ends_at:
        fault("start", f"{upload.starts_at:%Y-%m-%d}", "a start before the end")
    faults += _faults_of_use(parsed)
    if faults:
        raise BadInput("This certificate cannot be used.", violations=tuple(faults))


def _faults_of_use(parsed: x509.Certificate) -> list[Violation]:
    """Return what its extensions say against a client's signatures (RFC 5280 sections 4.2.1.3, 4.2.1.9, 4.2.1.12)."""
    where, found = "certificate.use", []
    # One that its owner made for themself says by habit that it is an authority's. Here nothing is believed that it
    # signed: its key alone counts. Of another's authority the key would be that of all whom it certifies.
    if _of_authority(parsed) and parsed.issuer != parsed.subject:
        remedy = "Have one issued for this client alone."
        found.append(Violation(where, "an authority's own certificate", "one of a client", remedy))
    usage = _extension(parsed, x509.KeyUsage)
    if usage is not None and not usage.digital_signature:
        remedy = "Have it issued for signatures; with openssl: -addext keyUsage=digitalSignature."
        found.append(Violation(where, "a key that may not sign", "key usage digitalSignature", remedy))
    purposes = _extension(parsed, x509.ExtendedKeyUsage)
    fitting = {ExtendedKeyUsageOID.CLIENT_AUTH, ExtendedKeyUsageOID.ANY_EXTENDED_KEY_USAGE}
    if purposes is not None and fitting.isdisjoint(purposes):
        allowed = "clientAuth among its purposes, or none named"
        found.append(Violation(where, "purposes without client authentication", allowed))
    return found


def _load(upload: bytes, kinds: Sequence[str]) -> list[x509.Certificate]:
    try:
        if "PKCS7" in kinds or "CMS" in kinds:
            return pkcs7.load_pem_pkcs7_certificates(upload)
        if "CERTIFICATE" in kinds:
            return x509.load_pem_x509_certificates(upload)
        if kinds:
            raise BadInput.field("certificate", shorten(", ".join(kinds)), "PEM with a certificate")
    except ValueError as error:
        raise _unreadable("PEM that cannot be read") from error
    try:
        return [x509.load_der_x509_certificate(upload)]
    except ValueError:
        pass
    try:
        return pkcs7.load_der_pkcs7_certificates(upload)
    except Exception as error:
        # The library has more than one error for bytes that are not a bundle.
        raise _unreadable(f"{len(upload)} bytes that are no certificate") from error


def _unreadable(sent: str) -> BadInput:
    return BadInput.field("certificate", sent, "a certificate in PEM or DER, or a PKCS#7 bundle with one")


def _certificate(parsed: x509.Certificate) -> Certificate:
    der = parsed.public_bytes(Encoding.DER)
    key = parsed.public_key()
    jwk: Jwk = {}
    if isinstance(key, EllipticCurvePublicKey | RSAPublicKey | Ed25519PublicKey) and describe(key)[1] is None:
        jwk = jwk_of(key) | {"x5t#S256": _base64url(parsed.fingerprint(SHA256()))}
    return Certificate(
        der=der,
        subject=_name(parsed.subject) or "(no name)",
        issued_by="itself" if parsed.issuer == parsed.subject else _name(parsed.issuer),
        serial=f"{parsed.serial_number:x}",
        starts_at=parsed.not_valid_before_utc,
        ends_at=parsed.not_valid_after_utc,
        thumbprint=parsed.fingerprint(SHA256()).hex(),
        sha1=parsed.fingerprint(SHA1()).hex(),  # noqa: S303 - to compare with other tools, nothing rests on it
        key=describe(key)[0],
        jwk=jwk,
    )


def _name(name: x509.Name) -> str:
    return name.rfc4514_string()


def _of_authority(parsed: x509.Certificate) -> bool:
    basic = _extension(parsed, x509.BasicConstraints)
    return basic is not None and basic.ca


def _extension(parsed: x509.Certificate, kind: type[_Kind]) -> _Kind | None:
    try:
        return parsed.extensions.get_extension_for_class(kind).value
    except (x509.ExtensionNotFound, ValueError):
        return None


def _base64url(data: bytes) -> str:
    return base64.urlsafe_b64encode(data).rstrip(b"=").decode()
