"""A client rotates its own secret or key, whatever its kind, and whenever it is killed."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path
from uuid import uuid4

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding

from jamb.client import ClientCredentials, Conflict, Jamb, KeyFile, PrivateKey, SecretFile, keep_fresh
from jamb.client.credentials.keeping_fresh import Did
from jamb.core.credentials.term import CredentialState
from jamb.core.rotation import RotationState
from tests import patient
from tests.service.credentials.test_rotations import DAY, aged, last_used, opened_ago
from tests.world import BERTHS, Made, World, wait_until

PASSPHRASE = "a quiet harbour"


@pytest.fixture
def custodian(world: World) -> Iterator[Jamb]:
    with world.jamb("custodian") as jamb:
        yield jamb


def asked_for(key: PrivateKey) -> bytes:
    """Return a request for a certificate, as any tool makes one."""
    asked = x509.CertificateSigningRequestBuilder().subject_name(x509.Name([]))
    return asked.sign(key.key, SHA256()).public_bytes(Encoding.PEM)


def secret(custodian: Jamb, made: Made, file: Path) -> ClientCredentials:
    file.write_text(custodian.secrets.issue(made.id).secret + "\n")
    return SecretFile(made.id, file)


def key_set(custodian: Jamb, made: Made, file: Path) -> ClientCredentials:
    key = PrivateKey.make()
    custodian.credentials.add_keys(made.id, {"keys": [key.public()]})
    file.write_bytes(key.pem())
    return KeyFile(made.id, file)


def own_certificate(custodian: Jamb, made: Made, file: Path) -> ClientCredentials:
    pair = custodian.credentials.make_certificate(made.id, days=60)
    given = PrivateKey.of(pair.private_key.encode() + pair.certificate.encode(), pair.passphrase)
    file.write_bytes(PrivateKey(given.key, given.certificate, PASSPHRASE).pem(sealed=True))
    return KeyFile(made.id, file, passphrase=PASSPHRASE)


def issued_certificate(custodian: Jamb, made: Made, file: Path) -> ClientCredentials:
    key = PrivateKey.make()
    held = custodian.credentials.request_certificate(made.id, asked_for(key), days=60)
    assert held.certificate is not None
    file.write_bytes(key.with_certificate(held.certificate.pem).pem())
    return KeyFile(made.id, file)


@pytest.mark.parametrize("kind", [secret, key_set, own_certificate, issued_certificate])
def test_a_client_keeps_what_proves_it_fresh_by_a_file(
    world: World, custodian: Jamb, tmp_path: Path, kind: object
) -> None:
    made, file, issuer = world.client(granted=["berths.view"], secret=False), tmp_path / "own", world.token_endpoint()
    issuer = issuer.removesuffix("/token")
    auth = kind(custodian, made, file)  # type: ignore[operator]
    file.chmod(0o600)
    auth.token_endpoint, auth.resource = f"{issuer}/token", BERTHS
    under = PASSPHRASE if kind is own_certificate else ""

    def keep() -> Did:
        return keep_fresh(issuer, made.id, file, passphrase=under).did

    assert keep() is Did.NOTHING
    old_id, before = aged(world, made, 3), file.read_bytes()
    with patient.Client(auth=auth) as job:
        assert job.get(world.berths_url + "/berths").status_code == 200
        assert keep() is Did.ROTATED
        assert file.stat().st_mode & 0o777 == 0o600
        assert file.read_bytes() != before
        assert [one.name for one in tmp_path.iterdir()] == ["own"], "nothing is left beside it"
        auth.forget()
        assert job.get(world.berths_url + "/berths").status_code == 200, "the job picks the new one up"
    assert keep() is Did.WAITED
    (one,) = custodian.rotations.list(client=made.id)
    assert one.old.kind is one.new.kind
    wait_until(lambda: custodian.rotations.read(made.id, one.id).state is RotationState.PROVEN)
    assert one.opened_by == made.name
    opened_ago(world, one, 4 * DAY)
    last_used(world, old_id, 4 * DAY)
    assert keep() is Did.CLOSED
    assert keep() is Did.NOTHING
    file.write_bytes(before)
    auth.forget()
    with patient.Client(auth=auth) as job, pytest.raises(Exception, match="authentication failed"):
        job.get(world.berths_url + "/berths")


def test_a_client_with_a_key_that_was_killed_goes_on_with_the_key_it_had_made(
    world: World, custodian: Jamb, tmp_path: Path
) -> None:
    made, file = world.client(granted=["berths.view"], secret=False), tmp_path / "own"
    issuer = world.token_endpoint().removesuffix("/token")
    key_set(custodian, made, file)
    aged(world, made, 3)
    before = file.read_bytes()
    keep_fresh(issuer, made.id, file)
    # As if it had been killed after the issuer heard of the key, and before the file was replaced.
    (tmp_path / "own.next").write_bytes(file.read_bytes())
    file.write_bytes(before)
    assert keep_fresh(issuer, made.id, file).did is Did.ROTATED
    assert len(list(custodian.rotations.list(client=made.id))) == 1
    # Another key than the one that was announced is somebody else's, perhaps.
    file.write_bytes(before)
    with pytest.raises(Conflict, match="another key is open already"):
        keep_fresh(issuer, made.id, file)


def test_a_client_that_was_killed_before_it_wrote_the_answer_asks_again(world: World, custodian: Jamb) -> None:
    made = world.client(granted=["berths.view"])
    url = f"{world.base_url}/d/quillhaven/rotation"

    def step(secret: str, what: str) -> httpx.Response:
        return patient.post(url, data={"step": what}, auth=(made.id, secret))

    lost, kept = (step(made.secret, "open").json()["client_secret"] for _ in range(2))
    assert step(lost, "look").status_code == 401
    assert step(kept, "look").json()["is_new"] is True
    standing = [one for one in custodian.secrets.list(made.id) if one.state is CredentialState.LIVE]
    assert len(standing) == 2
    world.ask_token(Made(made.id, made.name, kept))
    wait_until(lambda: step(kept, "look").json()["rotation"] == "proven")
    again = step(made.secret, "open")
    assert (again.status_code, "something uses it already" in again.json()["error_description"]) == (400, True)
    for secret, what, status in (("jamb_s1_x", "look", 401), (made.secret, "jump", 400), (made.secret, "close", 400)):
        assert step(secret, what).status_code == status


def test_a_policy_may_leave_rotation_to_custodians(world: World) -> None:
    with world.jamb("steward") as steward:
        made = steward.clients.register(f"Own {uuid4().hex[:6]}", "Tests its own rotation")
        secret = steward.secrets.issue(made.id).secret
        steward.change_policy(self_rotation=False)
        try:
            sent = {"step": "open"}
            answer = patient.post(f"{world.base_url}/d/quillhaven/rotation", data=sent, auth=(made.id, secret))
        finally:
            steward.change_policy(self_rotation=True)
    assert (answer.status_code, answer.json()["error"]) == (400, "unauthorized_client")
    assert "custodian" in answer.json()["error_description"]
