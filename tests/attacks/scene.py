"""What a stranger, or somebody with a small role, has at hand: raw requests, and the records to look at afterwards."""

from __future__ import annotations

import base64
import json
import socket
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any
from uuid import uuid4

import httpx
from cryptography.hazmat.primitives.asymmetric import ec

from tests import patient
from tests.world import BERTHS, Made, World

HERE = "/api/v1/directories/quillhaven"
ASSERTION = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"


@dataclass(frozen=True)
class Attack:
    """One row: what is tried, the standard's section that speaks of it, what is refused and how, and the try itself."""

    name: str
    section: str
    refused: str
    run: Callable[[Scene], None]


@dataclass(frozen=True)
class Scene:
    """`keyed`: a client that proves itself by keys. `strict`: a process with small bounds, to reach them soon."""

    world: World
    steward: httpx.Client
    client: Made
    keyed: str
    strict: str

    # As a stranger

    def token(self, basic: bytes | None = None, **form: Any) -> httpx.Response:
        headers = {"Authorization": "Basic " + base64.b64encode(basic).decode()} if basic is not None else {}
        sent = {"grant_type": "client_credentials", "resource": BERTHS, **form}
        return httpx.post(self.world.token_endpoint(), data=sent, headers=headers, timeout=10)

    def assertion(self, header: dict[str, Any] | None = None, **claims: Any) -> httpx.Response:
        """Send an assertion that nobody signed, for a client that proves itself by keys."""
        now = int(time.time())
        said = {
            "iss": self.keyed,
            "sub": self.keyed,
            "aud": f"{self.world.base_url}/d/quillhaven",
            "jti": uuid4().hex,
            "exp": now + 60,
            **claims,
        }
        text = (
            ".".join(written(part) for part in ({"alg": "ES256", "kid": "x", **(header or {})}, said)) + "." + "A" * 86
        )
        return self.token(client_assertion_type=ASSERTION, client_assertion=text)

    def bearer(self, **header: Any) -> httpx.Response:
        """Ask Jamb's own API with a token that nobody signed."""
        parts = ({"alg": "ES256", "typ": "at+jwt", "kid": "x", **header}, {"sub": "x"})
        return self.own(".".join(map(written, parts)) + "." + "A" * 86)

    def own(self, token: str) -> httpx.Response:
        return patient.get(f"{self.world.base_url}{HERE}/clients", headers={"Authorization": f"Bearer {token}"})

    def sign_in(
        self,
        login: str,
        password: str,
        *,
        address: str = "127.0.0.1",
        cookies: dict[str, str] | None = None,
        directory: str = "",
    ) -> httpx.Response:
        """Sign in from an address of the loopback network."""
        transport = httpx.HTTPTransport(local_address=address)
        with httpx.Client(transport=transport, base_url=self.world.base_url, timeout=30, cookies=cookies) as http:
            return http.post("/api/v1/session", json={"login": login, "password": password, "directory": directory})

    def raw(self, sent: bytes, seconds: float = 5, port: int | None = None) -> bytes:
        """Send bytes as they are and return what comes back until the connection ends or nothing comes for a while."""
        with socket.create_connection(("127.0.0.1", port or self.world.port), timeout=seconds) as connection:
            connection.sendall(sent)
            return received(connection)

    # As somebody who is signed in

    def post(self, path: str, body: Any) -> httpx.Response:
        """Send JSON as the steward, as it is written, surrogates and all."""
        return self.steward.post(
            HERE + path, content=json.dumps(body).encode(), headers={"Content-Type": "application/json"}
        )

    def put(self, path: str, body: Any) -> httpx.Response:
        return self.steward.put(
            HERE + path, content=json.dumps(body).encode(), headers={"Content-Type": "application/json"}
        )

    @contextmanager
    def as_person(self, role: str | None, directory: str = "quillhaven") -> Iterator[httpx.Client]:
        with self.world.session(role, directory) as http:
            yield http

    # Afterwards

    def count(self, table: str, where: str = "true", *values: Any) -> int:
        with self.world.database() as database:
            return database.execute(f"select count(*) from {table} where {where}", values).fetchone()[0]

    def ready(self) -> bool:
        return httpx.get(f"{self.world.base_url}/ready", timeout=10).status_code == 200

    def forget_tries(self) -> None:
        """Start anew: others of the run come from the same address."""
        with self.world.database() as database:
            database.execute("delete from tried")


def written(value: dict[str, Any]) -> str:
    return base64.urlsafe_b64encode(json.dumps(value).encode()).decode().rstrip("=")


def received(connection: socket.socket) -> bytes:
    found = b""
    try:
        while part := connection.recv(65536):
            found += part
    except (TimeoutError, ConnectionError):
        pass
    return found


def refused(answer: httpx.Response, *status: int) -> None:
    """A refusal says what is wrong, as RFC 9457 or RFC 6749 section 5.2 has it, and never that we made a mistake."""
    assert answer.status_code in status, (answer.status_code, answer.text[:300])
    body = answer.json()
    assert body.get("detail") or body.get("error_description"), body


def new_key() -> Any:
    return ec.generate_private_key(ec.SECP256R1())
