"""Clients that prove themselves by the certificate of their connection, and tokens bound to it (RFC 8705, RFC 9440)."""

from __future__ import annotations

import base64
import ssl
from collections.abc import Iterator
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

import httpx
import jwt
import pytest
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat, load_pem_private_key

from jamb.guard.certificate import thumbprint_of
from jamb.guard.checks import Call, Checks
from jamb.guard.refusals import Refused
from tests import patient
from tests.beside import make_certificate, nginx, unused_port
from tests.world import BERTHS, Made, World


@dataclass(frozen=True)
class Mutual:
    """A client with a certificate, and the proxy at which it holds its connection by it."""

    made: Made
    url: str
    certificate: str
    files: tuple[Path, Path]
    strangers: tuple[Path, Path]

    def http(self, files: tuple[Path, Path] | None) -> httpx.Client:
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        if files is not None:
            context.load_cert_chain(*files)
        return httpx.Client(base_url=self.url, verify=context, timeout=60)

    def ask(self, files: tuple[Path, Path] | None, **more: str) -> httpx.Response:
        form = {"grant_type": "client_credentials", "client_id": self.made.id, "resource": BERTHS, **more}
        with self.http(files) as http:
            return http.post("/d/quillhaven/token", data=form)


@pytest.fixture(scope="module")
def mutual(world: World, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Mutual]:
    folder, listen = tmp_path_factory.mktemp("mutual"), unused_port()
    made = world.client(granted=["berths.view"], secret=False)
    with world.jamb(None) as owner:
        held = owner.credentials.make_certificate(made.id, days=30)
        key = load_pem_private_key(held.private_key.encode(), held.passphrase.encode())
    files = (folder / "client.pem", folder / "client.key")
    files[0].write_text(held.certificate)
    files[1].write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))
    make_certificate(folder)
    settings = {
        "JAMB_TRUSTED_PROXIES": "127.0.0.1",
        "JAMB_CLIENT_CERTIFICATES": "true",
        "JAMB_HOSTS": f"127.0.0.1:{listen}",
    }
    with world.second_process(unused_port(), **settings) as behind:
        changed = {
            "server 127.0.0.1:8440;": f"server {behind.removeprefix('http://')};",
            "$host;": "$http_host;",
            "ssl_protocols TLSv1.2 TLSv1.3;": "ssl_protocols TLSv1.2 TLSv1.3; ssl_verify_client optional_no_ca;",
        }
        with nginx("nginx.conf", listen, changed):
            strangers = (folder / "fullchain.pem", folder / "key.pem")
            yield Mutual(made, f"https://127.0.0.1:{listen}", held.certificate, files, strangers)


def test_a_client_proves_itself_by_its_connection_and_its_token_is_bound_to_it(world: World, mutual: Mutual) -> None:
    with mutual.http(None) as http:
        told = http.get("/.well-known/oauth-authorization-server/d/quillhaven").json()
    assert "self_signed_tls_client_auth" in told["token_endpoint_auth_methods_supported"]
    assert told["tls_client_certificate_bound_access_tokens"] is True
    token = mutual.ask(mutual.files).raise_for_status().json()["access_token"]
    claims = jwt.decode(token, options={"verify_signature": False})
    escaped = quote(mutual.certificate)
    assert claims["cnf"] == {"x5t#S256": thumbprint_of([escaped])}
    assert world.call_berths(token).status_code == 401, "this API sees no certificates"
    with closing(Checks(f"{world.base_url}/d/quillhaven", BERTHS)) as checks:
        judged_by(checks, token, mutual)


def judged_by(checks: Checks, token: str, mutual: Mutual) -> None:
    """An API behind a proxy that tells it the certificate."""
    checks.certificates, escaped = True, quote(mutual.certificate)
    der = ssl.PEM_cert_to_DER_cert(mutual.certificate)
    for told_by_proxy in (escaped, f":{base64.b64encode(der).decode()}:"):
        call = Call("GET", f"{BERTHS}/berths", f"Bearer {token}", "", [told_by_proxy])
        assert checks.let_in(call, ["berths.view"], "berths.list", None).client_id == mutual.made.id
    for others in ([], [escaped, escaped], [quote(mutual.strangers[0].read_text())], [":no base64:"], ["x"]):
        with pytest.raises(Refused, match="does not hold this connection"):
            checks.let_in(Call("GET", BERTHS, f"Bearer {token}", "", others), ["berths.view"], "berths.list", None)


def test_whoever_has_another_certificate_or_only_says_so_is_not_the_client(world: World, mutual: Mutual) -> None:
    for files in (None, mutual.strangers):
        refused = mutual.ask(files)
        assert (refused.status_code, refused.json()["error"]) == (401, "invalid_client")
    with mutual.http(None) as http:
        form = {"grant_type": "client_credentials", "client_id": mutual.made.id, "resource": BERTHS}
        said = http.post("/d/quillhaven/token", data=form, headers={"Client-Cert": quote(mutual.certificate)})
    assert said.status_code == 401, "the proxy says what is so"
    direct = patient.post(world.token_endpoint(), data=form, headers={"Client-Cert": quote(mutual.certificate)})
    assert direct.status_code == 401, "nobody else is believed"
    with world.jamb(None) as owner:
        (held,) = owner.credentials.list(mutual.made.id)
        owner.credentials.disable(mutual.made.id, held.id)
        try:
            assert mutual.ask(mutual.files).status_code == 401
        finally:
            owner.credentials.enable(mutual.made.id, held.id)
    assert world.failures(mutual.made.id)[0]["outcome"] == "credential-disabled"


def test_jambs_own_api_takes_a_bound_token_by_its_connection_alone(world: World, mutual: Mutual) -> None:
    api = f"{world.base_url}/api/v1/directories/quillhaven"
    with world.jamb() as steward, world.jamb("approver") as approver:
        steward.asks.add(mutual.made.id, "jamb", ["revocations.read"])
        approver.consent.grant(mutual.made.id)
    token = mutual.ask(mutual.files, resource=api).raise_for_status().json()["access_token"]
    header = {"Authorization": f"Bearer {token}"}
    there = "/api/v1/directories/quillhaven/revocations?resource=berths"
    with mutual.http(mutual.files) as http:
        let_in = http.get(there, headers=header)
        assert (let_in.status_code, "Only the guard" in let_in.json()["detail"]) == (403, True)
    with mutual.http(mutual.strangers) as http:
        assert http.get(there, headers=header).status_code == 401
    assert patient.get(f"{world.base_url}{there}", headers=header).status_code == 401
