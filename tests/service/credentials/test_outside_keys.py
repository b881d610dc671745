"""Keys published at an address: fetched with care, kept while the address is away, never from the inner network."""

from __future__ import annotations

import asyncio
import contextlib
import ipaddress
import json
import socket
import ssl
import time
from collections.abc import Awaitable, Callable, Iterator
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from threading import Thread
from typing import Any

import httpx
import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import NameOID

from jamb.core.credentials.public_keys import jwk_of
from jamb.service.egress import Egress, NotSpokenTo
from jamb.service.oauth import outside_keys
from jamb.service.oauth.outside_keys import OutsideKeys, Unreachable
from tests.own_loop import in_own_loop

URI = "https://keys.example/jwks"
KEYS = {name: jwk_of(ec.generate_private_key(ec.SECP256R1()).public_key(), name) for name in ("old", "new")}


class Site:
    """What stands at keys.example, and how often it was asked. `clock` stands in for the time that passes."""

    def __init__(self, monkeypatch: pytest.MonkeyPatch, address: str = "203.0.113.7") -> None:
        self.calls: list[httpx.Request] = []
        self.answers: dict[str, Any] = {"/jwks": {"keys": [KEYS["old"]]}}
        self.clock = 1000.0
        monkeypatch.setattr(time, "monotonic", lambda: self.clock)
        # An address of the world, for documentation alone, is not global to the library: it is made so here.
        monkeypatch.setattr(ipaddress.IPv4Address, "is_global", property(lambda one: str(one) == "203.0.113.7"))
        entry = (socket.AF_INET, socket.SOCK_STREAM, 6, "", (address, 443))

        async def look_up(_loop: Any, *_: Any, **__: Any) -> list[Any]:
            return [entry]

        monkeypatch.setattr(asyncio.BaseEventLoop, "getaddrinfo", look_up)

    def answer(self, request: httpx.Request) -> httpx.Response:
        self.calls.append(request)
        found = self.answers.get(request.url.path)
        if isinstance(found, httpx.Response):
            return found
        return httpx.Response(200, json=found) if found is not None else httpx.Response(503)

    def ask(self, work: Callable[[OutsideKeys], Awaitable[Any]], inner: tuple[str, ...] = ()) -> Any:
        async def run() -> Any:
            return await work(OutsideKeys(Egress(inner, httpx.AsyncClient(transport=httpx.MockTransport(self.answer)))))

        return in_own_loop(run())


def ids(keys: Any) -> list[str]:
    return [one["kid"] for one in keys]


def test_keys_are_kept_looked_for_again_when_unknown_and_outlive_an_outage(monkeypatch: pytest.MonkeyPatch) -> None:
    site = Site(monkeypatch)

    async def work(fetched: OutsideKeys) -> None:
        assert ids(await fetched.keys(URI, "", ["old"])) == ["old"]
        assert ids(await fetched.keys(URI, "", ["old"])) == ["old"]
        assert len(site.calls) == 1
        assert str(site.calls[0].url) == "https://203.0.113.7/jwks", "what was looked up is what is spoken to"
        assert site.calls[0].headers["Host"] == "keys.example"
        site.answers["/jwks"] = {"keys": [KEYS["old"], KEYS["new"]]}
        await fetched.keys(URI, "", ["new"])
        assert len(site.calls) == 1, "an unknown key is not asked for at every request"
        site.clock += outside_keys.AGAIN_SECONDS + 1
        assert ids(await fetched.keys(URI, "", ["new"])) == ["old", "new"]
        site.answers.clear()
        site.clock += outside_keys.KEPT_SECONDS + 1
        assert ids(await fetched.keys(URI, "", ["new"])) == ["old", "new"], "an outage stops nobody"
        site.clock += outside_keys.GONE_SECONDS
        with pytest.raises(Unreachable, match="503"):
            await fetched.keys(URI, "", ["new"])

    site.ask(work)


def test_an_issuers_keys_are_found_by_its_own_metadata_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    site, issuer = Site(monkeypatch), "https://keys.example/tenant"
    good = {"issuer": issuer, "jwks_uri": URI}
    site.answers["/tenant/.well-known/openid-configuration"] = good
    assert ids(site.ask(lambda one: one.keys(None, issuer, []))) == ["old"]
    site.answers["/.well-known/oauth-authorization-server/tenant"] = good
    assert ids(site.ask(lambda one: one.keys(None, issuer, []))) == ["old"]
    for wrong in ({**good, "issuer": "https://other.example"}, {**good, "jwks_uri": "http://keys.example/jwks"}, {}):
        site.answers = {"/.well-known/oauth-authorization-server/tenant": wrong, "/jwks": {"keys": [KEYS["old"]]}}
        with pytest.raises(Unreachable):
            site.ask(lambda one: one.keys(None, issuer, []))


BAD = {
    "a redirect": httpx.Response(302, headers={"Location": "http://127.0.0.1/"}),
    "no JSON": httpx.Response(200, text="hello"),
    "no object": httpx.Response(200, json=[1]),
    "a private key": httpx.Response(200, json={"keys": [{**KEYS["old"], "d": "AAAA"}]}),
    "far too much": httpx.Response(200, content=b" " * 300_000),
}


@pytest.mark.parametrize("answer", BAD.values(), ids=BAD.keys())
def test_what_an_address_may_not_answer(monkeypatch: pytest.MonkeyPatch, answer: httpx.Response) -> None:
    site = Site(monkeypatch)
    site.answers["/jwks"] = answer
    with pytest.raises(Unreachable):
        site.ask(lambda one: one.keys(URI, "", []))
    assert len(site.calls) == 1, "it is not followed anywhere"


@pytest.mark.parametrize("address", ["127.0.0.1", "10.1.2.3", "169.254.169.254"])
def test_an_inner_address_is_spoken_to_only_when_the_setting_names_it(
    monkeypatch: pytest.MonkeyPatch, address: str
) -> None:
    site = Site(monkeypatch, address)
    with pytest.raises(Unreachable, match="inner address"):
        site.ask(lambda one: one.keys(URI, "", []))
    assert site.calls == []
    assert ids(site.ask(lambda one: one.keys(URI, "", []), ("keys.example",))) == ["old"]


# Over real TLS


@contextlib.contextmanager
def tls_site(folder: Path, name: str, pause: float = 0) -> Iterator[tuple[str, ssl.SSLContext]]:
    """Stand on loopback with a certificate for `name` alone; yield the address of its keys and who trusts it."""
    key = ec.generate_private_key(ec.SECP256R1())
    who = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, name)])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(who)
        .issuer_name(who)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now - timedelta(1))
        .not_valid_after(now + timedelta(1))
        .add_extension(x509.SubjectAlternativeName([x509.DNSName(name)]), critical=False)
        .sign(key, SHA256())
    )
    certificate = folder / "site.pem"
    plain = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    certificate.write_bytes(made.public_bytes(Encoding.PEM) + plain)
    served, trusted = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH), ssl.create_default_context()
    served.load_cert_chain(certificate)
    trusted.load_verify_locations(certificate)

    class Answer(BaseHTTPRequestHandler):
        protocol_version = "HTTP/1.1"

        def do_GET(self) -> None:
            body = json.dumps({"keys": [KEYS["old"]]}).encode()
            self.send_response(200)
            self.send_header("Content-Length", str(len(body)))
            self.end_headers()
            with contextlib.suppress(OSError):
                for byte in body:
                    self.wfile.write(bytes([byte]))
                    time.sleep(pause)

        def log_message(self, *_: Any) -> None: ...

    with HTTPServer(("127.0.0.1", 0), Answer) as server:
        server.socket = served.wrap_socket(server.socket, server_side=True)
        Thread(target=server.serve_forever, daemon=True).start()
        yield f"https://localhost:{server.server_port}/jwks", trusted
        server.shutdown()


def read_keys(address: str, trusted: ssl.SSLContext) -> Any:
    async def read() -> Any:
        async with httpx.AsyncClient(verify=trusted, timeout=2) as http:
            return await OutsideKeys(Egress({"localhost"}, http)).keys(address, "", [])

    return in_own_loop(read())


def test_the_certificate_is_held_against_the_name_although_an_address_is_spoken_to(tmp_path: Path) -> None:
    with tls_site(tmp_path, "localhost") as (address, trusted):
        assert ids(read_keys(address, trusted)) == ["old"]
    with tls_site(tmp_path, "elsewhere.example") as (address, trusted), pytest.raises(Unreachable) as refused:
        read_keys(address, trusted)
    assert "ConnectError" in str(refused.value)


def test_no_connection_made_for_one_name_serves_another_at_the_same_address(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    async def look_up(_loop: Any, _host: str, port: int, **_: Any) -> list[Any]:
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", ("127.0.0.1", port))]

    async def ask_both(address: str) -> None:
        spoken = Egress({"localhost", "elsewhere.example"})
        for place in (address, address.replace("localhost", "elsewhere.example")):
            await spoken.ask("GET", place, seconds=5, max_bytes=9999, headers={})

    with tls_site(tmp_path, "localhost") as (address, trusted):
        monkeypatch.setattr(ssl, "create_default_context", lambda: trusted)
        monkeypatch.setattr(asyncio.BaseEventLoop, "getaddrinfo", look_up)
        with pytest.raises(NotSpokenTo, match="ConnectError"):
            in_own_loop(ask_both(address))


def test_an_answer_that_drips_is_given_up(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setattr(outside_keys, "TIMEOUT_SECONDS", 0.5)
    with tls_site(tmp_path, "localhost", pause=0.05) as (address, trusted), pytest.raises(Unreachable) as refused:
        read_keys(address, trusted)
    assert "took more than" in str(refused.value)
