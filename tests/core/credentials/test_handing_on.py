"""What is handed on: links and their states, recipients' keys, requests for certificates, sheets that run as they are."""

from __future__ import annotations

import ast
import json
import shlex
from datetime import timedelta
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.hashes import SHA384
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    PublicFormat,
)
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from hypothesis import assume, given
from hypothesis import strategies as st
from jwt.algorithms import ECAlgorithm, RSAAlgorithm

from jamb.core.credentials.handover import (
    LONGEST_KEY,
    MOST_HOURS,
    MOST_WRONG_TRIES,
    HandoverState,
    check_passphrase,
    handover_end,
    state_of_handover,
)
from jamb.core.credentials.issuing import Authority, authority_name, certify, client_name, client_uri, read_request
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.leaks import fingerprint_of, leaks_in, look_up_of
from jamb.core.credentials.lookup import LookedFor, credential_meant
from jamb.core.credentials.recipients import recipient_key
from jamb.core.credentials.secrets import PREFIX, secret_from
from jamb.core.credentials.sheets.scripts import curl, javascript, python
from jamb.core.credentials.sheets.values import ConnectionSheet
from jamb.core.errors import BadInput
from tests.core.build import NOW, moments

ELLIPTIC = ec.generate_private_key(ec.SECP256R1())
RSA_KEY = rsa.generate_private_key(65537, 2048)

# Links


@given(moments, st.none() | moments, st.none() | moments, st.integers(0, 9), moments)
def test_a_handover_waits_until_it_was_opened_taken_back_locked_or_is_over(
    expires: object, opened: object, withdrawn: object, wrong: int, now: object
) -> None:
    state = state_of_handover(expires, opened, withdrawn, wrong, now)  # type: ignore[arg-type]
    if opened is not None:
        assert state is HandoverState.OPENED
    elif withdrawn is not None:
        assert state is HandoverState.WITHDRAWN
    elif wrong >= MOST_WRONG_TRIES:
        assert state is HandoverState.LOCKED
    else:
        assert (state is HandoverState.WAITING) == (now < expires)  # type: ignore[operator]


def test_a_handover_lives_for_at_most_a_week_and_a_passphrase_is_long_enough_or_none() -> None:
    assert handover_end(NOW, 1) == NOW + timedelta(hours=1)
    for hours in (0, MOST_HOURS + 1):
        with pytest.raises(BadInput):
            handover_end(NOW, hours)
    check_passphrase("")
    check_passphrase("eight or more")
    for wrong in ("short", "x" * 201):
        with pytest.raises(BadInput) as refused:
            check_passphrase(wrong)
        assert wrong not in str(refused.value.violations), "it is never repeated"


# Recipients


def pem(key: ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey) -> str:
    return key.public_key().public_bytes(Encoding.PEM, PublicFormat.SubjectPublicKeyInfo).decode()


def private_pem(key: ec.EllipticCurvePrivateKey) -> str:
    return key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()


@pytest.mark.parametrize(
    ("key", "algorithm"), [(ELLIPTIC, "ECDH-ES+A256KW"), (RSA_KEY, "RSA-OAEP-256")], ids=["elliptic", "RSA"]
)
def test_a_recipients_key_is_the_same_from_a_jwk_and_from_pem(
    key: ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey, algorithm: str
) -> None:
    maker = ECAlgorithm if isinstance(key, ec.EllipticCurvePrivateKey) else RSAAlgorithm
    public: Any = maker.to_jwk(key.public_key(), as_dict=True)  # type: ignore[call-overload]
    jwk = json.dumps({**public, "kid": "theirs", "use": "enc"})
    found = recipient_key(jwk)
    assert found == recipient_key(pem(key))
    assert (found["use"], found["alg"]) == ("enc", algorithm)
    assert found["kid"] != "theirs", "its id is its thumbprint (RFC 7638)"


JWK = ECAlgorithm.to_jwk(ELLIPTIC.public_key(), as_dict=True)
WEAK = rsa.generate_private_key(65537, 1024)
NO_KEYS: dict[str, tuple[str, str]] = {
    "nothing": ("", "neither PEM nor JSON"),
    "a list": ("[]", "no object"),
    "a private key as PEM": (private_pem(ELLIPTIC), "a private key"),
    "a private key as a JWK": (json.dumps({**JWK, "d": "AAAA"}), "a private key"),
    "a key for signatures": (json.dumps({**JWK, "use": "sig"}), "sig"),
    "a shared key": (json.dumps({"kty": "oct", "k": "AAAA"}), "a private key"),
    "of no type": (json.dumps({"kty": "ABC"}), "cannot be read"),
    "of half its members": (json.dumps({"kty": "EC", "crv": "P-256", "x": "AAAA"}), "cannot be read"),
    "PEM cut short": (pem(ELLIPTIC)[:60], "PEM that cannot be read"),
    "a weak key": (pem(WEAK), "1024"),
    "too long": ("x" * (LONGEST_KEY + 1), "characters"),
}


@pytest.mark.parametrize(("text", "said"), NO_KEYS.values(), ids=NO_KEYS.keys())
def test_what_is_no_key_to_seal_to_is_refused_and_never_repeated(text: str, said: str) -> None:
    with pytest.raises(BadInput) as refused:
        recipient_key(text)
    (violation,) = refused.value.violations
    assert said in violation.sent
    assert len(violation.sent) < 80


# Certificates


def test_a_certificate_is_the_clients_signed_by_its_directory_and_issues_nothing() -> None:
    name = authority_name("Alder Works")
    root = Authority(name, ELLIPTIC)
    above = certify(name, ELLIPTIC.public_key(), root, 1, NOW, NOW + timedelta(days=3650), of_authority=True)
    made = certify(
        client_name("c1", "Sluice log", "Alder Works"),
        RSA_KEY.public_key(),
        root,
        2,
        NOW,
        NOW + timedelta(days=90),
        uri=client_uri("c1"),
    )
    made.verify_directly_issued_by(above)
    assert made.not_valid_before_utc < NOW < made.not_valid_after_utc
    assert [one.value for one in made.subject.get_attributes_for_oid(NameOID.USER_ID)] == ["c1"]
    names = made.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    assert names.get_values_for_type(x509.UniformResourceIdentifier) == ["urn:jamb:client:c1"]
    usage = made.extensions.get_extension_for_class(x509.KeyUsage).value
    assert (usage.digital_signature, usage.key_cert_sign) == (True, False)
    assert list(made.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value) == [
        ExtendedKeyUsageOID.CLIENT_AUTH
    ]
    assert not made.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    authority = above.extensions.get_extension_for_class(x509.BasicConstraints).value
    assert (authority.ca, authority.path_length) == (True, 0), "it issues to clients alone"


def request_by(key: ec.EllipticCurvePrivateKey | rsa.RSAPrivateKey) -> x509.CertificateSigningRequest:
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "whatever they say")])
    return x509.CertificateSigningRequestBuilder().subject_name(name).sign(key, SHA384())


def test_a_request_is_read_for_its_key_alone() -> None:
    asked = request_by(ELLIPTIC)
    for upload in (asked.public_bytes(Encoding.PEM), asked.public_bytes(Encoding.DER)):
        assert read_request(upload) == ELLIPTIC.public_key()
    edwards = ed25519.Ed25519PrivateKey.generate()
    made = x509.CertificateSigningRequestBuilder().subject_name(x509.Name([])).sign(edwards, None)
    assert read_request(made.public_bytes(Encoding.PEM)) == edwards.public_key()


def forged() -> bytes:
    """A request whose key was exchanged: nobody has shown to hold the private part."""
    whole = request_by(ELLIPTIC).public_bytes(Encoding.DER)
    other = ec.generate_private_key(ec.SECP256R1()).public_key()
    points = [key.public_bytes(Encoding.X962, PublicFormat.UncompressedPoint) for key in (ELLIPTIC.public_key(), other)]
    return whole.replace(*points)


NO_REQUESTS: dict[str, tuple[bytes, str]] = {
    "nothing": (b"", "bytes that are none"),
    "a private key": (private_pem(ELLIPTIC).encode(), "a private key"),
    "a weak key": (request_by(WEAK).public_bytes(Encoding.PEM), "1024"),
    "another key in it": (forged(), "its key did not make"),
    "too long": (b"x" * 20_001, "20001 bytes"),
}


@pytest.mark.parametrize(("upload", "said"), NO_REQUESTS.values(), ids=NO_REQUESTS.keys())
def test_what_is_no_request_is_refused(upload: bytes, said: str) -> None:
    with pytest.raises(BadInput) as refused:
        read_request(upload)
    assert said in refused.value.violations[0].sent


# What people paste, and what they lose


@given(st.binary(min_size=32, max_size=32))
def test_a_thumbprint_is_found_in_each_of_its_spellings(digest: bytes) -> None:
    spelt = digest.hex()
    colons = ":".join(spelt[place : place + 2].upper() for place in range(0, 64, 2))
    found = {credential_meant(text) for text in (spelt, colons, f"sha256 {spelt}", f" {spelt.upper()} ")}
    assert len(found) == 1
    (meant,) = found
    assert meant is not None
    # Once in many lives it looks like hexadecimal digits, and is taken for some.
    assume(not set(meant.thumbprint.lower()) <= set("0123456789abcdef"))
    assert credential_meant(meant.thumbprint) == meant


def test_a_hint_is_found_by_how_it_begins_and_words_mean_nothing() -> None:
    assert credential_meant(f"{PREFIX}abcd…") == LookedFor(hint=f"{PREFIX}abcd")
    assert credential_meant("0123456789ab") == LookedFor(hint="sha256 0123456789ab")
    assert credential_meant(PREFIX) is None
    for words in ("", "radio bridge", "0123", "berths.view"):
        assert credential_meant(words) is None


@given(st.binary(min_size=32, max_size=32), st.binary(max_size=60), st.binary(max_size=60))
def test_a_secret_is_found_in_whatever_stands_around_it_and_looked_up_without_being_sent(
    lots: bytes, before: bytes, after: bytes
) -> None:
    secret = secret_from(lots)
    found = list(leaks_in(before + secret.encode() + b"\n" + after))
    assert (len(before), secret) in [(one.offset, one.secret) for one in found]
    mistyped = secret[:-1] + ("a" if secret[-1] != "a" else "b")
    assert secret not in [one.secret for one in leaks_in(mistyped.encode())]
    look_up = look_up_of(secret)
    assert secret not in look_up
    assert fingerprint_of(b"one", look_up) != fingerprint_of(b"another", look_up)


# Sheets

nasty = st.text(
    st.characters(codec="utf-8", exclude_categories=("Cc", "Cs")), min_size=1, max_size=40
) | st.sampled_from(
    ["https://x.example/$(touch /tmp/x)", "'; rm -rf ~ #", '"$HOME"', "a`b`c", "\\", "${CLIENT_SECRET}"]
)


@given(nasty, nasty, st.sampled_from(list(CredentialKind)))
def test_whatever_a_resource_is_called_the_scripts_of_its_sheet_say_it_and_do_nothing_else(
    resource: str, scope: str, kind: CredentialKind
) -> None:
    sheet = ConnectionSheet(
        "Tug", "https://jamb.example/d/port", "https://jamb.example/d/port/token", "c1", resource, (scope,), kind=kind
    )
    words = shlex.split(curl(sheet).replace(" \\\n", " "))
    assert f"resource={resource}" in words
    assert f"scope={scope}" in words
    assert words[:2] == ["printf", "%s"]
    strings = {node.value for node in ast.walk(ast.parse(python(sheet))) if isinstance(node, ast.Constant)}
    assert {resource, scope, "c1"} <= strings
    form = next(line for line in javascript(sheet).split(";") if "const form = " in line)
    said = json.loads(form.partition("const form = ")[2]) if ";" not in resource + scope else {"resource": resource}
    assert said["resource"] == resource
