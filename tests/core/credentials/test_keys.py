"""Certificates, public keys and signed assertions: what is read, what is refused, and with which words."""

from __future__ import annotations

import json
from collections.abc import Callable
from datetime import datetime, timedelta
from typing import Any

import jwt
import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    pkcs7,
)
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind
from jamb.core.credentials.allowed import refuse_credential
from jamb.core.credentials.assertions import (
    LONGEST_LIFE,
    NotProven,
    check_claims,
    check_once,
    read_assertion,
    signed_by,
)
from jamb.core.credentials.certificates import check_certificate, read_certificate
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.public_keys import jwk_of, key_set, thumbprint
from jamb.core.credentials.term import CredentialState, state_of
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import BadInput, Conflict
from tests.core.build import NOW

DAY = timedelta(days=1)
KEY = ec.generate_private_key(ec.SECP256R1())
OTHER = ec.generate_private_key(ec.SECP256R1())
RSA_KEY = rsa.generate_private_key(65537, 2048)
WEAK = rsa.generate_private_key(65537, 1024)
LATEST = NOW + 730 * DAY


def certificate(
    *extensions: x509.ExtensionType,
    key: Any = KEY,
    name: str = "Night run",
    starts: datetime = NOW - DAY,
    ends: datetime = NOW + 90 * DAY,
    issuer: str = "",
) -> x509.Certificate:
    subject, maker = (x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, one)]) for one in (name, issuer or name))
    made = x509.CertificateBuilder().subject_name(subject).issuer_name(maker).public_key(key.public_key())
    made = made.serial_number(x509.random_serial_number()).not_valid_before(starts).not_valid_after(ends)
    for one in extensions:
        made = made.add_extension(one, critical=False)
    return made.sign(key, None if isinstance(key, ed25519.Ed25519PrivateKey) else SHA256())


def usage(*, sign: bool) -> x509.KeyUsage:
    return x509.KeyUsage(sign, False, not sign, False, False, False, False, False, False)


AUTHORITY = certificate(x509.BasicConstraints(ca=True, path_length=None), name="Port authority")
OWN = certificate(usage(sign=True), x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]))
PEM, DER = OWN.public_bytes(Encoding.PEM), OWN.public_bytes(Encoding.DER)
PRIVATE = KEY.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())

READABLE: dict[str, bytes] = {
    "PEM": PEM,
    "PEM with words around": b"Bag Attributes\n  friendlyName: x\n" + PEM + b"\n",
    "DER": DER,
    "a chain": PEM + AUTHORITY.public_bytes(Encoding.PEM),
    "a chain, the other way round": AUTHORITY.public_bytes(Encoding.PEM) + PEM,
    "a PKCS#7 bundle": pkcs7.serialize_certificates([AUTHORITY, OWN], Encoding.PEM),
    "a PKCS#7 bundle in DER": pkcs7.serialize_certificates([OWN], Encoding.DER),
}


@pytest.mark.parametrize("upload", READABLE.values(), ids=READABLE.keys())
def test_the_clients_certificate_is_found_in_whatever_is_uploaded(upload: bytes) -> None:
    found = read_certificate(upload)
    assert (found.der, found.subject, found.issued_by, found.key) == (DER, "CN=Night run", "itself", "EC P-256")
    assert found.thumbprint == OWN.fingerprint(SHA256()).hex()
    check_certificate(found, NOW, LATEST)


REQUEST = x509.CertificateSigningRequestBuilder().subject_name(OWN.subject).sign(KEY, SHA256())
UNREADABLE: dict[str, tuple[bytes, str]] = {
    "a private key": (PRIVATE, "never a private key"),
    "a private key beside": (PEM + PRIVATE, "never a private key"),
    "a request": (REQUEST.public_bytes(Encoding.PEM), "the certificate that was issued for it"),
    "two clients'": (PEM + certificate(key=OTHER).public_bytes(Encoding.PEM), "one, the client's own"),
    "cut in half": (PEM[: len(PEM) // 2] + b"\n-----END CERTIFICATE-----\n", "a certificate in PEM or DER"),
    "something else": (b"hello", "a certificate in PEM or DER"),
    "nothing": (b"", "a certificate in PEM or DER"),
    "too much": (b"x" * 100_001, "at most 100000 bytes"),
}


@pytest.mark.parametrize(("upload", "allowed"), UNREADABLE.values(), ids=UNREADABLE.keys())
def test_what_is_no_certificate_is_refused_without_repeating_it(upload: bytes, allowed: str) -> None:
    with pytest.raises(BadInput) as refused:
        read_certificate(upload)
    assert allowed in refused.value.violations[0].allowed
    assert "MIG" not in str(refused.value.violations), "nothing of the upload comes back"


@given(st.binary(max_size=300))
def test_no_bytes_whatever_break_the_reading(upload: bytes) -> None:
    with pytest.raises(BadInput):
        read_certificate(upload)


UNFIT: dict[str, tuple[x509.Certificate, list[str]]] = {
    "ended": (certificate(starts=NOW - 9 * DAY, ends=NOW - DAY), ["certificate.end"]),
    "ends this moment": (certificate(ends=NOW), ["certificate.end"]),
    "for ever": (certificate(ends=NOW + 5000 * DAY), ["certificate.end"]),
    "a weak key": (certificate(key=WEAK), ["certificate.key"]),
    "another's authority's": (
        certificate(x509.BasicConstraints(ca=True, path_length=None), name="Port authority", issuer="Root"),
        ["certificate.use"],
    ),
    "may not sign": (certificate(usage(sign=False)), ["certificate.use"]),
    "for servers alone": (certificate(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH])), ["certificate.use"]),
    "weak and ended": (
        certificate(key=WEAK, starts=NOW - 9 * DAY, ends=NOW - DAY),
        ["certificate.key", "certificate.end"],
    ),
}


def test_one_that_its_owner_made_in_the_ordinary_way_is_taken() -> None:
    """As a common tool makes one without being told more: it calls itself an authority's (RFC 5280 section 4.2.1.9)."""
    ordinary = certificate(x509.BasicConstraints(ca=True, path_length=None))
    check_certificate(read_certificate(ordinary.public_bytes(Encoding.DER)), NOW, LATEST)


@pytest.mark.parametrize(("made", "fields"), UNFIT.values(), ids=UNFIT.keys())
def test_an_unfit_certificate_is_refused_with_every_reason(made: x509.Certificate, fields: list[str]) -> None:
    found = read_certificate(made.public_bytes(Encoding.DER))
    with pytest.raises(BadInput) as refused:
        check_certificate(found, NOW, LATEST)
    assert [one.field for one in refused.value.violations] == fields


@pytest.mark.parametrize("key", [KEY, RSA_KEY, ed25519.Ed25519PrivateKey.generate()], ids=["EC", "RSA", "Ed25519"])
def test_each_type_of_key_that_is_accepted_can_sign_an_assertion(key: Any) -> None:
    found = read_certificate(certificate(key=key).public_bytes(Encoding.DER))
    check_certificate(found, NOW, LATEST)
    algorithm = {"EC": "ES256", "RSA": "PS256", "OKP": "EdDSA"}[found.jwk["kty"]]
    headers = {"x5t#S256": found.jwk["x5t#S256"]}
    signed = jwt.encode({"sub": "c"}, key, algorithm, headers=headers)
    assert signed_by(read_assertion(signed), [found.jwk])
    assert not signed_by(read_assertion(signed), [jwk_of(OTHER.public_key())])


# Key sets


def test_a_thumbprint_is_that_of_rfc_7638() -> None:
    """RFC 7638 section 3.1."""
    modulus = (
        "0vx7agoebGcQSuuPiLJXZptN9nndrQmbXEps2aiAFbWhM78LhWx4cbbfAAtVT86zwu1RK7aPFFxuhDR1L6tSoc_BJECPebWKRXjBZCiFV4n3oknjhMs"
        "tn64tZ_2W-5JsGY4Hc5n9yBXArwl93lqt7_RN5w6Cf0h4QyQ5v-65YGjQR0_FDW2QvzqY368QQMicAtaSqzs8KJZgnYb9c7d0zgdAZHzu6qMQvRL5hajrn1"
        "n91CbOpbISD08qNLyrdkt-bFTWhAI4vMQFh6WeZu0fM4lFd2NcRwr3XPksINHaQ-G_xBniIqbw0Ls1jF44-csFCur-kEgU8awapJzKnqDKgw"
    )
    key = {"kty": "RSA", "n": modulus, "e": "AQAB", "alg": "RS256", "kid": "2011-04-29"}
    assert thumbprint(key) == "NzbLsXh8uDCcd-6MNwXF4W_7noWXFZAfHkxZsRGC9Xs"


def public(key: Any, **more: Any) -> dict[str, Any]:
    return jwk_of(key.public_key()) | more


def test_a_key_set_keeps_the_public_members_and_gives_each_key_an_id() -> None:
    unnamed = {name: value for name, value in public(RSA_KEY).items() if name != "kid"}
    one, other = key_set({"keys": [public(KEY, kid="a", use="sig", x5c=["…"]), unnamed]})
    assert one == public(KEY, kid="a")
    assert other["kid"] == thumbprint(unnamed)


PRIVATE_JWK = json.loads(jwt.algorithms.ECAlgorithm.to_jwk(KEY))
BAD_SETS: dict[str, tuple[Any, str]] = {
    "no set": ([public(KEY)], "keys"),
    "no keys": ({"keys": []}, "keys"),
    "too many": ({"keys": [public(KEY, kid=str(number)) for number in range(21)]}, "keys"),
    "a private key": ({"keys": [PRIVATE_JWK]}, "keys.0"),
    "a symmetric key": ({"keys": [{"kty": "oct", "k": "AAAA"}]}, "keys.0"),
    "a weak key": ({"keys": [public(WEAK)]}, "keys.0"),
    "for encryption": ({"keys": [public(KEY, use="enc")]}, "keys.0.use"),
    "an id twice": ({"keys": [public(KEY, kid="a"), public(OTHER, kid="a")]}, "keys.1.kid"),
    "half a key": ({"keys": [{"kty": "EC", "crv": "P-256", "x": "AA"}]}, "keys.0"),
    "no type": ({"keys": [{}]}, "keys.0"),
}


@pytest.mark.parametrize(("document", "field"), BAD_SETS.values(), ids=BAD_SETS.keys())
def test_a_key_set_that_cannot_be_trusted_says_which_key(document: Any, field: str) -> None:
    with pytest.raises(BadInput) as refused:
        key_set(document)
    assert [one.field for one in refused.value.violations] == [field]
    assert PRIVATE_JWK["d"] not in str(refused.value.violations)


# Assertions


def test_a_signature_of_the_standard_is_known() -> None:
    """RFC 7515 appendix A.3."""
    text = (
        "eyJhbGciOiJFUzI1NiJ9.eyJpc3MiOiJqb2UiLA0KICJleHAiOjEzMDA4MTkzODAsDQogImh0dHA6Ly9leGFtcGxlLmNvbS9pc19yb290Ijp0cnVl"
        "fQ.DtEhU3ljbEg8L38VWAfUAqOyKAM6-Xx-F4GawxaepmXFCgfTjDxw5djxLa8ISlSApmWQxfKTUJqPP3-Kg6NU1Q"
    )
    key = {
        "kty": "EC",
        "crv": "P-256",
        "x": "f83OJ3D2xF1Bg8vub9tLe1gHMzV76e8Tus9uPHvRVEU",
        "y": "x_FEzRu9m36HLN_tue659LNpXW6pCyStikYjKIWI5a0",
    }
    assert signed_by(read_assertion(text), [key])
    assert not signed_by(read_assertion(text), [public(OTHER), public(RSA_KEY)])


US = "https://jamb.example/d/port"
GOOD = {"iss": "c1", "sub": "c1", "aud": US, "jti": "1", "exp": int((NOW + timedelta(minutes=2)).timestamp())}


def assertion(headers: dict[str, Any] | None = None, key: Any = KEY, algorithm: str = "ES256", **claims: Any) -> str:
    body = {name: value for name, value in {**GOOD, **claims}.items() if value is not None}
    return jwt.encode(body, key, algorithm, headers=headers)


def at(**more: float) -> int:
    return int((NOW + timedelta(**more)).timestamp())


# A claim that says null; one of None is left out.
NULL: Any = object()
CLAIMS: dict[str, tuple[dict[str, Any], Outcome | None, str]] = {
    "as it should be": ({}, None, ""),
    "the audience in a list": ({"aud": [US]}, None, ""),
    "run out within the skew": ({"exp": at(seconds=-30)}, None, ""),
    "begun within the skew": ({"nbf": at(seconds=30), "iat": at(seconds=30)}, None, ""),
    "another client's": ({"sub": "c2"}, Outcome.ASSERTION_ISSUER, "sub is “c2”"),
    "made by another": ({"iss": "c2"}, Outcome.ASSERTION_ISSUER, "iss is “c2”"),
    "for another issuer here": ({"aud": US + "-trial"}, Outcome.ASSERTION_AUDIENCE, f"expected {US} alone"),
    "for two of our names": ({"aud": [US, US + "/token"]}, None, ""),
    "for an empty list": ({"aud": []}, Outcome.ASSERTION_AUDIENCE, "nothing"),
    "for us and another": ({"aud": [US, "https://x.example"]}, Outcome.ASSERTION_AUDIENCE, "x.example"),
    "for nobody": ({"aud": None}, Outcome.ASSERTION_AUDIENCE, "nothing"),
    "run out": ({"exp": at(seconds=-61)}, Outcome.ASSERTION_TIME, "clock"),
    "endless": ({"exp": None}, Outcome.ASSERTION_MALFORMED, "no exp"),
    "too long": ({"exp": at(minutes=62)}, Outcome.ASSERTION_TIME, "longer than 60 minutes"),
    "from the future": ({"iat": at(minutes=2)}, Outcome.ASSERTION_TIME, "future"),
    "not yet": ({"nbf": at(minutes=2)}, Outcome.ASSERTION_TIME, "future"),
    "an end that is no number": ({"exp": "soon"}, Outcome.ASSERTION_MALFORMED, "exp is not a number"),
    "an end that is a text": ({"exp": str(at(seconds=60))}, Outcome.ASSERTION_MALFORMED, "exp is not a number"),
    "a beginning that is null": ({"nbf": NULL}, Outcome.ASSERTION_MALFORMED, "nbf is not a number"),
}


@pytest.mark.parametrize(("claims", "outcome", "said"), CLAIMS.values(), ids=CLAIMS.keys())
def test_an_assertion_is_judged_by_what_it_says(claims: dict[str, Any], outcome: Outcome | None, said: str) -> None:
    ours = [US, f"{US}/token"]

    def judge() -> None:
        # Some claims would stop the library that makes the tokens: they are put in as they are.
        made = {name: value for name, value in claims.items() if name != "exp" and value is not NULL}
        read = read_assertion(assertion(**made))
        sent = {**read.claims, **claims}
        known = {name: None if value is NULL else value for name, value in sent.items() if value is not None}
        check_claims(type(read)(read.signed, read.algorithm, read.key_ids, known), "c1", "c1", ours, NOW, LONGEST_LIFE)

    if outcome is None:
        judge()
        return
    with pytest.raises(NotProven) as refused:
        judge()
    assert refused.value.outcome is outcome
    assert said in refused.value.detail


MALFORMED: dict[str, Callable[[], str]] = {
    "no JWT": lambda: "hello",
    "a shared secret": lambda: jwt.encode(GOOD, "s" * 32, "HS256"),
    "no signature": lambda: jwt.encode(GOOD, None, "none"),
    "far too long": lambda: assertion(more="x" * 9000),
}


@pytest.mark.parametrize("made", MALFORMED.values(), ids=MALFORMED.keys())
def test_what_is_no_signed_assertion_is_refused_before_anything_is_looked_up(made: Callable[[], str]) -> None:
    with pytest.raises(NotProven) as refused:
        read_assertion(made())
    assert refused.value.outcome is Outcome.ASSERTION_MALFORMED


def test_the_key_that_is_named_is_the_one_that_counts() -> None:
    keys = [public(KEY, kid="a"), public(OTHER, kid="b")]
    assert signed_by(read_assertion(assertion({"kid": "a"})), keys)
    assert not signed_by(read_assertion(assertion({"kid": "b"})), keys), "another key is named than signed"
    assert not signed_by(read_assertion(assertion({"kid": "c"})), keys), "a key that is not there"
    assert signed_by(read_assertion(assertion()), keys), "none is named: each is tried"


def test_a_key_of_another_type_cannot_be_talked_into_an_algorithm() -> None:
    """RFC 8725 section 3.1."""
    forged = read_assertion(assertion({"kid": "a"}, key=RSA_KEY, algorithm="RS256"))
    assert not signed_by(forged, [public(KEY, kid="a")])


def test_an_assertion_of_ones_own_needs_an_id() -> None:
    assert check_once(read_assertion(assertion())) == "1"
    for wrong in (None, "", "x" * 201):
        with pytest.raises(NotProven):
            check_once(read_assertion(assertion(jti=wrong)))


# What a client may have, and when it works


@pytest.mark.parametrize(
    ("kind", "credential", "standing", "weight", "error"),
    [
        (ClientKind.SERVICE, CredentialKind.SECRET, 4, 100, None),
        (ClientKind.SERVICE, CredentialKind.SECRET, 5, 0, Conflict),
        (ClientKind.SERVICE, CredentialKind.SECRET, 0, 101, BadInput),
        (ClientKind.SERVICE, CredentialKind.CERTIFICATE, 0, 101, None),
        (ClientKind.NATIVE, CredentialKind.KEYS, 0, 0, Conflict),
    ],
)
def test_a_client_gets_what_fits_its_kind_its_weight_and_its_number(
    kind: ClientKind, credential: CredentialKind, standing: int, weight: float, error: type[Exception] | None
) -> None:
    policy = DirectoryPolicy(secret_heaviest_weight=100)
    if error is None:
        refuse_credential(policy, "Night run", kind, credential, standing, weight)
        return
    with pytest.raises(error):
        refuse_credential(policy, "Night run", kind, credential, standing, weight)


@given(
    *(st.none() | st.integers(-3, 3).map(lambda days: NOW + days * DAY) for _ in range(4)),
    st.integers(0, 2).map(lambda days: days * DAY),
)
def test_a_credential_works_only_between_its_dates_and_while_nobody_stopped_it(
    starts: datetime | None,
    ends: datetime | None,
    withdrawn: datetime | None,
    disabled: datetime | None,
    notice: timedelta,
) -> None:
    state = state_of(ends, withdrawn, NOW, notice, starts_at=starts, disabled_at=disabled)
    stopped = (withdrawn is not None and withdrawn <= NOW) or disabled is not None
    works = not stopped and (ends is None or ends > NOW) and (starts is None or starts <= NOW)
    assert (state in {CredentialState.LIVE, CredentialState.EXPIRING}) is works
