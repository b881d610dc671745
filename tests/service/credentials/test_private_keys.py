"""Clients without a shared secret: certificates, key sets and outside issuers, from the API to an opened API."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from base64 import b64decode, urlsafe_b64encode
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from typing import Any
from uuid import uuid4

import httpx
import jwt
import pytest
from authlib.integrations.httpx_client import OAuth2Client
from authlib.oauth2.rfc7523 import PrivateKeyJWT
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    load_pem_private_key,
    pkcs12,
)
from cryptography.x509.oid import NameOID

from jamb.client import BadInput, Conflict
from jamb.core.credentials.kinds import CredentialKind, KeyType
from jamb.core.credentials.public_keys import jwk_of
from jamb.core.credentials.term import CredentialState
from jamb.core.credentials.urns import CLIENT_ASSERTION, JWT_BEARER
from jamb.core.errors import AlreadyEnded, LivesTooLong
from jamb.wire.credentials.credentials import MadeCertificate
from tests import patient
from tests.world import BERTHS, Made, World, wait_until

# For a client that holds keys: it proves itself by no certificate.
NO_CERTIFICATE: MadeCertificate = MadeCertificate.model_construct()  # type: ignore[call-arg]


@dataclass(frozen=True)
class Signer:
    """A client with a certificate made by Jamb, and its private key."""

    made: Made
    certificate: MadeCertificate
    key: Any

    def assertion(self, world: World, headers: dict[str, Any] | None = None, key: Any = None, **claims: Any) -> str:
        now = int(time.time())
        body = {
            "iss": self.made.id,
            "sub": self.made.id,
            "aud": f"{world.base_url}/d/quillhaven",
            "jti": uuid4().hex,
            "iat": now,
            "exp": now + 60,
            **claims,
        }
        named = {"kid": self.certificate.credential.key_ids[0]} if headers is None else headers
        return jwt.encode(body, key or self.key, "ES256", headers=named)


@pytest.fixture(scope="module")
def signer(world: World) -> Signer:
    made = world.client(granted=["berths.view"], secret=False)
    with world.jamb("custodian") as custodian:
        certificate = custodian.credentials.make_certificate(made.id, days=30, label="Night host")
    key = load_pem_private_key(certificate.private_key.encode(), certificate.passphrase.encode())
    return Signer(made, certificate, key)


def ask(world: World, assertion: str, **form: str) -> httpx.Response:
    sent = {
        "grant_type": "client_credentials",
        "resource": BERTHS,
        "client_assertion_type": CLIENT_ASSERTION,
        "client_assertion": assertion,
        **form,
    }
    return patient.post(world.token_endpoint(), data=sent)


def test_a_key_pair_made_here_is_returned_once_and_opens_the_api(world: World, signer: Signer) -> None:
    key, certificate, _ = pkcs12.load_key_and_certificates(
        b64decode(signer.certificate.pkcs12), signer.certificate.passphrase.encode()
    )
    assert isinstance(key, ec.EllipticCurvePrivateKey)
    assert certificate is not None
    assert certificate.public_bytes(Encoding.PEM).decode() == signer.certificate.certificate
    answer = ask(world, signer.assertion(world)).json()
    assert world.call_berths(answer["access_token"]).status_code == 200
    assert jwt.decode(answer["access_token"], options={"verify_signature": False})["sub"] == signer.made.id
    with world.jamb("auditor") as auditor:
        (held,) = auditor.credentials.list(signer.made.id)
        wait_until(lambda: auditor.credentials.list(signer.made.id)[0].last_used_at is not None)
    assert (held.kind, held.label, held.state) == (CredentialKind.CERTIFICATE, "Night host", CredentialState.LIVE)
    assert held.serves == ["private_key_jwt"]
    assert held.certificate is not None
    assert "UID=" + signer.made.id in held.certificate.subject
    with world.database() as database:
        kept = database.execute(
            "select to_jsonb(credential)::text from credential where client_id = %s", [signer.made.id]
        )
        assert '"d"' not in kept.fetchall()[0][0], "of a private key nothing is kept"


def test_an_independent_client_proves_itself_by_its_key(world: World, signer: Signer) -> None:
    key = rsa.generate_private_key(65537, 2048)
    with world.jamb("custodian") as custodian:
        custodian.credentials.add_keys(signer.made.id, {"keys": [jwk_of(key.public_key())]})
    pem = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    method = PrivateKeyJWT(world.token_endpoint())
    with OAuth2Client(signer.made.id, pem, token_endpoint_auth_method=method) as http:
        token = http.fetch_token(world.token_endpoint(), grant_type="client_credentials", resource=BERTHS)
    assert world.call_berths(token["access_token"]).status_code == 200
    metadata = patient.get(f"{world.base_url}/.well-known/oauth-authorization-server/d/quillhaven").json()
    for endpoint in ("token", "revocation", "introspection"):
        # RFC 8414 section 2: where the method is named, its algorithms are.
        assert "private_key_jwt" in metadata[f"{endpoint}_endpoint_auth_methods_supported"]
        assert "ES256" in metadata[f"{endpoint}_endpoint_auth_signing_alg_values_supported"]


def test_the_sheets_script_fetches_a_token_as_it_stands(world: World, signer: Signer, tmp_path: Path) -> None:
    with world.jamb("custodian") as custodian:
        (sheet,) = custodian.clients.sheets(signer.made.id)
    assert "client_secret" not in sheet.forms["text"]
    assert f"assertion_audience={world.base_url}/d/quillhaven" in sheet.forms["env"].lower()
    (tmp_path / "key.pem").write_text(signer.certificate.private_key)
    script = sheet.forms["python"] + "\nprint(token)"
    environment = {
        "CLIENT_KEY_FILE": str(tmp_path / "key.pem"),
        "CLIENT_KEY_PASSPHRASE": signer.certificate.passphrase,
    }
    ran = subprocess.run(
        [sys.executable, "-c", script], env=environment, capture_output=True, text=True, timeout=30, check=True
    )
    module = sheet.forms["javascript"] + "\nconsole.log(token);"
    node = ["node", "--input-type=module", "--eval", module]
    environment["PATH"] = os.environ["PATH"]
    with world.jamb("custodian") as custodian:
        further = custodian.credentials.make_certificate(signer.made.id, key_type=KeyType.RSA3072)
    (tmp_path / "rsa.pem").write_text(further.private_key)
    rsa_key = {"CLIENT_KEY_FILE": str(tmp_path / "rsa.pem"), "CLIENT_KEY_PASSPHRASE": further.passphrase}
    for key in ({}, rsa_key):
        shown = subprocess.run(node, env=environment | key, capture_output=True, text=True, timeout=30, check=True)
        assert world.call_berths(shown.stdout.strip()).status_code == 200
    assert "client_assertion={ASSERTION}" in sheet.forms["http"]
    assert world.call_berths(ran.stdout.strip()).status_code == 200


WRONG: dict[str, tuple[dict[str, Any], str, str, str]] = {
    "another endpoint as audience": (
        {"aud": "{endpoint}x"},
        "assertion-for-another",
        "expected {issuer} alone",
        "",
    ),
    "a clock an hour slow": ({"exp": -3600, "iat": -3660}, "assertion-time", "clock", ""),
    "a clock half an hour fast": ({"exp": 1860, "iat": 1800}, "assertion-time", "future", ""),
    "no id": ({"jti": None}, "assertion-malformed", "jti", ""),
    "another's key": ({"key": True}, "assertion-key", "failed", "no key of the client"),
    "a key that nobody knows": ({"headers": {"kid": "moon"}}, "assertion-key", "failed", "names moon"),
    "made by another": ({"iss": "somebody"}, "assertion-of-another", "failed", "iss is “somebody”"),
}


@pytest.mark.parametrize("case", WRONG.values(), ids=WRONG.keys())
def test_a_wrong_assertion_is_refused_and_the_record_says_exactly_why(
    world: World, signer: Signer, case: tuple[dict[str, Any], str, str, str]
) -> None:
    changes, outcome, said, recorded = case
    issuer, now = f"{world.base_url}/d/quillhaven", int(time.time())
    claims: dict[str, Any] = {}
    for name, value in changes.items():
        filled = value.format(endpoint=world.token_endpoint()) if isinstance(value, str) else value
        claims[name] = now + value if name in {"exp", "iat"} else filled
    if claims.get("key"):
        claims["key"] = ec.generate_private_key(ec.SECP256R1())
    assertion = signer.assertion(world, **{name: value for name, value in claims.items() if value is not None})
    if "jti" in claims:
        body = jwt.decode(assertion, options={"verify_signature": False})
        del body["jti"]
        assertion = jwt.encode(body, signer.key, "ES256")
    answer = ask(world, assertion)
    assert (answer.status_code, answer.json()["error"]) == (401, "invalid_client")
    assert said.format(issuer=issuer) in answer.json()["error_description"]
    attempt = world.failures(signer.made.id)[0]
    assert attempt["outcome"] == outcome
    assert recorded in attempt["detail"]
    assert attempt["remedy"]


def test_an_assertion_counts_once_whichever_process_sees_it(world: World, signer: Signer) -> None:
    assertion = signer.assertion(world)
    assert ask(world, assertion).status_code == 200
    with world.second_process() as other:
        sent = {
            "grant_type": "client_credentials",
            "resource": BERTHS,
            "client_assertion_type": CLIENT_ASSERTION,
            "client_assertion": assertion,
        }
        again = patient.post(f"{other}/d/quillhaven/token", data=sent)
        # Many at once, each of them three times, here and there.
        several = [{**sent, "client_assertion": signer.assertion(world)} for _ in range(8)]
        with ThreadPoolExecutor(12) as pool:
            calls = [
                pool.submit(httpx.post, f"{base}/d/quillhaven/token", data=form, timeout=60)
                for form in several
                for base in (world.base_url, other, world.base_url)
            ]
            found = [call.result().status_code for call in calls]
    assert [sorted(found[at : at + 3]) for at in range(0, 24, 3)] == [[200, 401, 401]] * 8
    assert again.status_code == 401
    assert "used before" in again.json()["error_description"]
    assert world.failures(signer.made.id)[0]["outcome"] == "assertion-replayed"


def test_one_way_to_prove_oneself_and_no_other(world: World, signer: Signer) -> None:
    for more in ({"client_secret": "x"}, {"client_id": "somebody"}, {"client_assertion_type": "saml"}):
        answer = ask(world, signer.assertion(world), **more)
        assert (answer.status_code, answer.json()["error"]) == (400, "invalid_request")
    garbage = ask(world, "hello")
    assert (garbage.status_code, garbage.json()["error"]) == (401, "invalid_client")


def test_a_credential_is_disabled_enabled_and_withdrawn_and_each_acts_at_once(world: World) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with world.jamb("custodian") as custodian:
        pair = custodian.credentials.make_certificate(made.id, key_type=KeyType.RSA3072)
        key = load_pem_private_key(pair.private_key.encode(), pair.passphrase.encode())
        one, held = Signer(made, pair, key), pair.credential

        def outcome() -> str:
            now = int(time.time())
            body = {
                "iss": made.id,
                "sub": made.id,
                "aud": f"{world.base_url}/d/quillhaven",
                "jti": uuid4().hex,
                "exp": now + 60,
            }
            signed = jwt.encode(body, key, "PS256", headers={"x5t#S256": _x5t(held.certificate)})
            answer = ask(world, signed)
            return "issued" if answer.status_code == 200 else str(world.failures(made.id)[0]["outcome"])

        assert outcome() == "issued"
        assert (
            custodian.credentials.disable(made.id, held.id, reason="Host in repair").state is CredentialState.DISABLED
        )
        assert outcome() == "credential-disabled"
        with pytest.raises(Conflict, match="disabled already"):
            custodian.credentials.disable(made.id, held.id)
        assert custodian.credentials.enable(made.id, held.id).state is CredentialState.LIVE
        assert outcome() == "issued"
        custodian.credentials.withdraw(made.id, held.id)
        assert outcome() == "key-withdrawn"
        with pytest.raises(AlreadyEnded):
            custodian.credentials.enable(made.id, held.id)
        # A withdrawn key may come back to its client, as another credential.
        again = custodian.credentials.add_certificate(made.id, one.certificate.certificate)
        assert outcome() == "issued"
        assert again.expires_at == held.expires_at


def _x5t(facts: Any) -> str:
    return jwt.utils.base64url_encode(bytes.fromhex(facts.thumbprint)).decode()


def test_a_lost_secret_is_replaced_in_one_step(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.jamb("custodian") as custodian:
        (lost,) = custodian.secrets.list(made.id)
        issued = custodian.secrets.issue(made.id, instead_of=lost.id, label="After the move")
        assert issued.replaced is not None
        assert (issued.replaced.id, issued.replaced.state) == (lost.id, CredentialState.WITHDRAWN)
        assert world.ask_token(made).status_code == 401
        assert world.ask_token(Made(made.id, made.name, issued.secret)).status_code == 200
        with pytest.raises(AlreadyEnded):
            custodian.secrets.issue(made.id, instead_of=lost.id)
        assert len(custodian.secrets.list(made.id)) == 2, "nothing was issued for what could not be withdrawn"


def test_a_disabled_secret_proves_nothing(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.jamb("custodian") as custodian:
        (held,) = custodian.secrets.list(made.id)
        custodian.credentials.disable(made.id, held.id)
        assert world.ask_token(made).json()["error_description"] == "This credential is disabled here."
        custodian.credentials.enable(made.id, held.id)
    assert world.ask_token(made).status_code == 200


def test_keys_of_ones_own_and_a_shared_key_is_refused(world: World) -> None:
    made, other = world.client(granted=["berths.view"], secret=False), world.client(secret=False)
    keys = [ec.generate_private_key(ec.SECP256R1()) for _ in range(2)]
    document = {"keys": [jwk_of(key.public_key(), f"key-{place}") for place, key in enumerate(keys)]}
    with world.jamb("custodian") as custodian:
        held = custodian.credentials.add_keys(made.id, document, days=20)
        assert held.key_ids == ["key-0", "key-1"]
        for place, key in enumerate(keys):
            signed = Signer(made, NO_CERTIFICATE, key).assertion(world, {"kid": f"key-{place}"})
            assert ask(world, signed).status_code == 200
        with pytest.raises(Conflict, match="proves itself with this key already"):
            custodian.credentials.add_keys(other.id, {"keys": [jwk_of(keys[0].public_key())]})
        with pytest.raises(Conflict, match="has this key already"):
            custodian.credentials.add_keys(made.id, {"keys": [jwk_of(keys[1].public_key())]})
        with pytest.raises(LivesTooLong):
            custodian.credentials.add_keys(made.id, {"keys": [jwk_of(keys[1].public_key())]}, days=3000)
        for wrong in ("http://keys.example/jwks", "ftp://x", "https://user@keys.example"):
            with pytest.raises(BadInput, match="https address"):
                custodian.credentials.add_keys(other.id, keys_uri=wrong)


def test_published_keys_of_an_inner_address_are_never_fetched(world: World) -> None:
    """Whoever may add keys cannot make the service speak to its own network."""
    made = world.client(granted=["berths.view"], secret=False)
    key = ec.generate_private_key(ec.SECP256R1())
    with world.jamb("custodian") as custodian:
        custodian.credentials.add_keys(made.id, keys_uri=f"https://localhost:{world.port}/d/quillhaven/jwks")
    answer = ask(world, Signer(made, NO_CERTIFICATE, key).assertion(world, {"kid": "x"}))
    assert answer.json()["error"] == "invalid_client"
    assert "localhost" not in answer.text, "the caller learns nothing of the network"
    attempt = world.failures(made.id)[0]
    assert (attempt["outcome"], "inner address" in attempt["detail"]) == ("keys-unreachable", True)


def test_an_outside_issuer_speaks_for_a_client_that_needs_no_secret(world: World) -> None:
    made, other = world.client(granted=["berths.view"], secret=False), world.client(secret=False)
    key, issuer, subject = ec.generate_private_key(ec.SECP256R1()), "https://builds.example", "project:quay/branch:main"
    with world.jamb("custodian") as custodian:
        document = {"keys": [jwk_of(key.public_key(), "b1")]}
        held = custodian.credentials.trust_issuer(made.id, issuer, subject, keys=document)
        assert held.serves == [JWT_BEARER]
        with pytest.raises(Conflict, match="known by this subject"):
            custodian.credentials.trust_issuer(other.id, issuer, subject, keys=document)
        with pytest.raises(BadInput, match="outside Jamb"):
            custodian.credentials.trust_issuer(other.id, f"{world.base_url}/d/brisling".replace("http:", "https:"), "x")

    def exchange(**claims: Any) -> httpx.Response:
        now = int(time.time())
        body = {"iss": issuer, "sub": subject, "aud": f"{world.base_url}/d/quillhaven", "exp": now + 3600, **claims}
        signed = jwt.encode(body, key, "ES256", headers={"kid": "b1"})
        form = {"grant_type": JWT_BEARER, "assertion": signed, "client_id": made.id, "resource": BERTHS}
        return patient.post(world.token_endpoint(), data=form)

    answer = exchange()
    assert answer.status_code == 200, answer.text
    assert world.call_berths(answer.json()["access_token"]).status_code == 200
    assert exchange().status_code == 200, "an outside assertion may serve again while it lives"
    wrong = exchange(sub="project:quay/branch:other")
    assert (wrong.status_code, wrong.json()["error"]) == (400, "invalid_grant")
    assert "branch:other" in world.failures(made.id)[0]["detail"]
    assert "branch:main" not in wrong.text, "which subject is trusted is not the caller's to learn"
    with world.jamb("custodian") as custodian:
        custodian.credentials.withdraw(made.id, held.id)
    assert exchange().json()["error"] == "invalid_grant"


def test_the_directorys_authority_issues_what_is_asked_for(world: World) -> None:
    made, key = world.client(granted=["berths.view"], secret=False), ec.generate_private_key(ec.SECP384R1())
    asked = x509.CertificateSigningRequestBuilder().subject_name(
        x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "the harbour master")])
    )
    request = asked.sign(key, SHA256())
    with world.jamb("custodian") as custodian:
        held = custodian.credentials.request_certificate(made.id, request.public_bytes(Encoding.DER), days=30)
        assert held.certificate is not None
        leaf = x509.load_pem_x509_certificate(held.certificate.pem.encode())
        assert "harbour master" not in held.certificate.subject, "names are ours to give"
        assert f"UID={made.id}" in held.certificate.subject
        chain = patient.get(f"{world.base_url}/d/quillhaven/authority")
        (root,) = x509.load_pem_x509_certificates(chain.content)
        leaf.verify_directly_issued_by(root)
        verifier = x509.verification.PolicyBuilder().store(x509.verification.Store([root])).build_client_verifier()
        assert [one.value for one in verifier.verify(leaf, []).subjects or ()] == [f"urn:jamb:client:{made.id}"]
        signed = {
            "iss": made.id,
            "sub": made.id,
            "aud": f"{world.base_url}/d/quillhaven",
            "jti": uuid4().hex,
            "exp": int(time.time()) + 60,
        }
        assert ask(world, jwt.encode(signed, key, "ES384")).status_code == 200
        with pytest.raises(Conflict, match="has this key already"):
            custodian.credentials.request_certificate(made.id, request.public_bytes(Encoding.PEM))
        weak = asked.sign(rsa.generate_private_key(65537, 1024), SHA256()).public_bytes(Encoding.PEM)
        broken = bytearray(request.public_bytes(Encoding.DER))
        broken[-1] ^= 1
        private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
        for wrong, said in (
            (weak, "at least 2048 bits"),
            (bytes(broken), "request"),
            (private, "PKCS#10"),
            (b"nothing", "PKCS#10"),
        ):
            with pytest.raises(BadInput, match=said):
                custodian.credentials.request_certificate(made.id, wrong)
    assert patient.get(f"{world.base_url}/d/brisling/authority").status_code == 404


def test_a_client_is_found_by_whatever_names_one_of_its_credentials(world: World) -> None:
    made = world.client()
    with world.jamb("custodian") as custodian:
        held = custodian.credentials.make_certificate(made.id).credential
        facts, (secret, *_) = held.certificate, custodian.secrets.list(made.id)
        assert facts is not None
        spelt = ":".join(facts.thumbprint[at : at + 2] for at in range(0, 64, 2)).upper()
        x5t = urlsafe_b64encode(bytes.fromhex(facts.thumbprint)).decode().rstrip("=")
        for said in (secret.hint, secret.hint[:-1], facts.thumbprint, spelt, x5t, held.key_ids[0], held.hint):
            assert [one.id for one in custodian.clients.list(q=said)] == [made.id], said
        another = spelt[:-2] + ("00" if spelt[-2:] != "00" else "01")
        for nothing in ("jamb_s1_", "jamb_s1_%", another, "A" * 43):
            assert made.id not in {one.id for one in custodian.clients.list(q=nothing)}
        with pytest.raises(BadInput) as refused:
            list(custodian.clients.list(q=f"x {made.secret}"))
        assert made.secret not in str(refused.value)


def test_a_policy_asks_for_keys_above_a_weight_and_bounds_how_many_stand(world: World) -> None:
    with world.jamb("steward") as steward:
        made = steward.clients.register(f"Bounds {uuid4().hex[:6]}", "Tests bounds")
        before = steward.directory().policy
        try:
            steward.change_policy(credentials_at_once=2, secret_heaviest_weight=1)
            heavy = world.client(granted=["berths.assign"], secret=False)
            with pytest.raises(BadInput, match="keys above a weight of 1"):
                steward.secrets.issue(heavy.id)
            steward.credentials.make_certificate(heavy.id)
            steward.secrets.issue(made.id)
            steward.credentials.make_certificate(made.id)
            with pytest.raises(Conflict, match="as many as this directory allows"):
                steward.credentials.make_certificate(made.id)
        finally:
            steward.change_policy(
                credentials_at_once=before.credentials_at_once, secret_heaviest_weight=before.secret_heaviest_weight
            )
