"""The service ends TLS itself: renewed certificates, callers' own ones (RFC 8705), and handshakes that never end."""

from __future__ import annotations

import asyncio
import ipaddress
import os
import socket
import ssl
import subprocess
import time
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import quote
from uuid import UUID

import httpx
import jwt
import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, load_pem_private_key

from jamb.guard.certificate import thumbprint_of
from jamb.service.http.tls import AT_ONCE, LOOK_SECONDS, Tls
from tests.beside import unused_port
from tests.own_loop import in_own_loop
from tests.warm import warm
from tests.world import BERTHS, World, wait_until

HANDSHAKE_SECONDS = 3


def make_pair(folder: Path, days: int) -> tuple[Path, Path]:
    """Write a certificate for the loopback address, signed by itself, and its key; over those that are there."""
    now, key = datetime.now(UTC), ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "jamb")])
    alternative = x509.SubjectAlternativeName([x509.IPAddress(ipaddress.ip_address("127.0.0.1"))])
    made = x509.CertificateBuilder(
        name, name, key.public_key(), x509.random_serial_number(), now - timedelta(days=1), now + timedelta(days=days)
    ).add_extension(alternative, critical=False)
    files = folder / "certificate.pem", folder / "key.pem"
    files[1].write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    files[0].write_bytes(made.sign(key, SHA256()).public_bytes(Encoding.PEM))
    return files


@dataclass(frozen=True)
class Served:
    url: str
    folder: Path
    environment: dict[str, str]

    def http(self, held_by: tuple[Path, Path] | None = None) -> httpx.Client:
        trusting = ssl.create_default_context(cafile=str(self.folder / "certificate.pem"))
        if held_by is not None:
            trusting.load_cert_chain(*held_by)
        return httpx.Client(base_url=self.url, verify=trusting, timeout=60)

    def serial(self) -> int:
        """Of the certificate with which the service answers now."""
        there = httpx.URL(self.url)
        pem = ssl.get_server_certificate((there.host, there.port or 443))
        return x509.load_pem_x509_certificate(pem.encode()).serial_number


@pytest.fixture(scope="module")
def served(world: World, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Served]:
    folder, port = tmp_path_factory.mktemp("tls"), unused_port()
    certificate, key = make_pair(folder, 90)
    settings = {
        "JAMB_TLS_CERTIFICATE": str(certificate),
        "JAMB_TLS_KEY": str(key),
        "JAMB_CLIENT_CERTIFICATES": "true",
        "JAMB_HEAD_SECONDS": str(HANDSHAKE_SECONDS),
        "JAMB_HOSTS": f"127.0.0.1:{port}",
    }
    with world.second_process(port, **settings) as url:
        environment = {"PATH": os.environ["PATH"], "JAMB_HOME": str(world.home), "JAMB_PORT": str(port)}
        environment |= {"JAMB_DATABASE_URL": world.cluster.url, "JAMB_PUBLIC_URL": world.base_url, **settings}
        yield Served(url, folder, environment)


def test_a_client_registered_meanwhile_proves_itself_by_its_connection(world: World, served: Served) -> None:
    made = world.client(granted=["berths.view"], secret=False)
    with world.jamb(None) as owner:
        held = owner.credentials.make_certificate(made.id, days=30)
    key = load_pem_private_key(held.private_key.encode(), held.passphrase.encode())
    files = served.folder / "client.pem", served.folder / "client.key"
    files[0].write_text(held.certificate)
    files[1].write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    form = {"grant_type": "client_credentials", "client_id": made.id, "resource": BERTHS}
    answers: list[httpx.Response] = []

    def let_in() -> bool:
        try:
            with served.http(files) as http:
                answers.append(http.post("/d/quillhaven/token", data=form))
        except httpx.TransportError:
            return False
        return answers[-1].is_success

    wait_until(let_in)
    claims = jwt.decode(answers[-1].json()["access_token"], options={"verify_signature": False})
    assert claims["cnf"] == {"x5t#S256": thumbprint_of([quote(held.certificate)])}
    with served.http() as http:
        said = http.post("/d/quillhaven/token", data=form, headers={"Client-Cert": quote(held.certificate)})
        assert (said.status_code, said.json()["error"]) == (401, "invalid_client"), "saying so is no proof"
        told = http.get("/.well-known/oauth-authorization-server/d/quillhaven").json()
    assert "self_signed_tls_client_auth" in told["token_endpoint_auth_methods_supported"]
    nobodys = served.folder / "nobody"
    nobodys.mkdir()
    with pytest.raises(httpx.TransportError), served.http(make_pair(nobodys, 1)) as http:
        http.get("/health")
    with world.jamb(None) as owner:
        owner.credentials.disable(made.id, held.credential.id)
    assert not let_in()
    assert world.failures(made.id)[0]["outcome"] == "credential-disabled"


def test_many_certificates_are_read_in_parts_and_what_is_new_again_and_again(tmp_path: Path) -> None:
    certificate, key = make_pair(tmp_path, 90)
    der = x509.load_pem_x509_certificate(certificate.read_bytes()).public_bytes(Encoding.DER)
    tls = Tls(certificate, key, "", asks=True, handshake_seconds=3)
    begun, ids = datetime.now(UTC), [UUID(int=number) for number in range(1, 2 * AT_ONCE + 2)]
    asked: list[tuple[datetime, UUID]] = []

    async def registered(place: tuple[datetime, UUID], most: int) -> list[tuple[bytes, datetime, UUID]]:
        asked.append(place)
        # All of one import, at the same moment.
        return [(der, begun, one) for one in ids if (begun, one) > place][:most]

    async def kept() -> None:
        with suppress(TimeoutError):
            await asyncio.wait_for(tls.keep(registered), LOOK_SECONDS * 1.5)

    in_own_loop(kept())
    assert [place[1].int for place in asked[:4]] == [0, AT_ONCE, 2 * AT_ONCE, 0]
    assert begun - timedelta(minutes=3) < asked[3][0] < begun, "a transaction that ended late is seen, too"
    assert tls.context.cert_store_stats()["x509"] == 1


def test_a_renewed_certificate_is_used_at_once_and_half_of_one_is_not(served: Served) -> None:
    certificate = served.folder / "certificate.pem"
    before = served.serial()
    whole = certificate.read_bytes()
    certificate.write_bytes(whole[:100])
    time.sleep(3)
    assert served.serial() == before
    renewed = x509.load_pem_x509_certificate(make_pair(served.folder, 90)[0].read_bytes()).serial_number
    assert renewed != before
    wait_until(lambda: served.serial() == renewed)
    with served.http() as http:
        assert http.get("/health").status_code == 200


def test_who_never_ends_the_handshake_is_given_up(served: Served) -> None:
    there = httpx.URL(served.url)
    with socket.create_connection((there.host, there.port or 443), timeout=4 * HANDSHAKE_SECONDS) as silent:
        began = time.monotonic()
        assert silent.recv(1) == b""
        assert time.monotonic() - began < 3 * HANDSHAKE_SECONDS


def run(served: Served, word: str, **changed: str) -> subprocess.CompletedProcess[str]:
    return warm("jamb-service").run([word], served.environment | changed)


def test_what_is_wrong_with_the_files_is_said_before_anything_listens(world: World, served: Served) -> None:
    other = served.folder / "other"
    other.mkdir()
    _, foreign = make_pair(other, 5)
    short = {"JAMB_TLS_CERTIFICATE": str(other / "certificate.pem"), "JAMB_TLS_KEY": str(foreign)}
    for changed, said in (
        ({"JAMB_TLS_KEY": str(foreign)}, "the key does not belong to the certificate"),
        ({"JAMB_TLS_KEY": str(other / "none.pem")}, "cannot be read"),
        ({"JAMB_TLS_KEY": ""}, "belong together"),
        ({"JAMB_TLS_KEY": foreign.read_text()}, "JAMB_TLS_KEY is (not shown); it must be the path of a PEM file"),
    ):
        refused = run(served, "serve", **changed)
        assert (refused.returncode, said in refused.stderr, "Traceback" in refused.stderr) == (1, True, False), (
            refused.stderr
        )
    checked = run(served, "check").stdout
    assert "✓ TLS: for 127.0.0.1, until" in checked
    assert "expires on" in run(served, "check", **short).stdout
    elsewhere = run(served, "check", JAMB_PUBLIC_URL="https://jamb.quillhaven.example").stdout
    assert "the certificate is for 127.0.0.1, and the public address is jamb.quillhaven.example" in elsewhere
