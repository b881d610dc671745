"""An API of any language behind nginx, each request of which the gate lets pass or not (`jamb-guard serve`)."""

from __future__ import annotations

import json
import os
import subprocess
import threading
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import httpx
import pytest

from jamb.client import ClientCredentials, ProofKey
from jamb.wire.resources.reach import CollectionSent, ReachSent
from jamb.wire.resources.resources import OperationSent, PermissionSent, ResourceSent
from tests.beside import nginx, running, unused_port
from tests.cli.run import Shell
from tests.world import ROOT, Made, World, unique, wait_until


class Echo(BaseHTTPRequestHandler):
    """An API that knows nothing of tokens: it says what it was told."""

    seen: list[str]

    def do_GET(self) -> None:
        self.seen.append(f"{self.command} {self.path}")
        body = json.dumps({"path": self.path, **{name.lower(): value for name, value in self.headers.items()}}).encode()
        self.send_response(200)
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        if self.command != "HEAD":
            self.wfile.write(body)

    def do_PUT(self) -> None:
        self.do_GET()

    def do_HEAD(self) -> None:
        self.do_GET()

    def log_message(self, *_: object) -> None:
        pass


@dataclass(frozen=True)
class Gated:
    """`url`: of the proxy. `seen`: what came through to the API."""

    name: str
    identifier: str
    url: str
    seen: list[str]

    def call(self, token: str, path: str, method: str = "GET", **headers: str) -> httpx.Response:
        named = {"Authorization": f"Bearer {token}"} if token else {}
        request = httpx.Request(method, self.url, headers={**named, **headers})
        # Sent as it is written, and not tidied.
        request.url = request.url.copy_with(raw_path=path.encode())
        with httpx.Client(timeout=30) as http:
            return http.send(request)


def operation(name: str, method: str, path: str, effect: str = "read") -> OperationSent:
    return OperationSent.model_validate(
        {"name": name, "title": name, "method": method, "path": path, "effect": effect, "data_class": "internal"}
    )


def permission(name: str, *unlocks: str, implies: list[str] | None = None) -> PermissionSent:
    return PermissionSent.model_validate(
        {"name": name, "title": name, "kinds": ["application"], "unlocks": unlocks, "implies": implies or []}
    )


@pytest.fixture(scope="module")
def gated(world: World, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Gated]:
    folder = tmp_path_factory.mktemp("gate")
    name, listen, port = unique("locks").replace(" ", "-").lower(), unused_port(), unused_port()
    sent = ResourceSent(
        title="Locks",
        identifier=f"https://{name}.example",
        object_name="lock",
        operations=[
            operation("locks.list", "GET", "/locks"),
            operation("lock.read", "GET", "/locks/{lock}"),
            operation("lock.drain", "PUT", "/locks/{lock}/drained", "control"),
        ],
        permissions=[
            permission("locks.view", "locks.list", "lock.read"),
            permission("locks.run", "lock.drain", implies=["locks.view"]),
        ],
    )
    with world.jamb() as steward:
        steward.resources.publish(name, sent)
        steward.resources.replace_collections(name, [CollectionSent(path="east", objects=["e1", "e2"])])
        steward.resources.set_address(name, f"http://127.0.0.1:{listen}")
    file = folder / "guard.json"
    made = Shell(world, folder).signed_in("steward")("resources", "guard", name, "--save", str(file))
    assert made.code == 0, made.err
    values = json.loads(file.read_text())
    file.write_text(json.dumps({**values, "url": f"http://127.0.0.1:{listen}"}))
    seen: list[str] = []
    with ExitStack() as stack:
        api = stack.enter_context(ThreadingHTTPServer(("127.0.0.1", 0), type("Api", (Echo,), {"seen": seen})))
        threading.Thread(target=api.serve_forever, daemon=True).start()
        stack.callback(api.shutdown)
        program = [str(ROOT / ".venv/bin/jamb-guard"), "serve", "--config", str(file), "--port", str(port)]
        stack.enter_context(running(program, folder, port))
        changed = {
            "127.0.0.1:8450": f"127.0.0.1:{port}",
            "127.0.0.1:8080": f"127.0.0.1:{api.server_port}",
            f"listen 127.0.0.1:{listen} ssl": f"listen 127.0.0.1:{listen}",
        }
        stack.enter_context(nginx("nginx-gate.conf", listen, changed))
        wait_until(lambda: httpx.get(f"http://127.0.0.1:{port}/ready").status_code == 200)
        yield Gated(name, sent.identifier, f"http://127.0.0.1:{listen}", seen)


def granted(world: World, gated: Gated, name: str, **reach: Any) -> tuple[Made, str]:
    made = world.client()
    with world.jamb() as steward, world.jamb("approver") as approver:
        asked = {"reach": ReachSent.model_validate(reach)} if reach else {}
        steward.asks.add(made.id, gated.name, [name], **asked)
        approver.consent.grant(made.id)
    answer = world.ask_token(made, resource=gated.identifier).raise_for_status().json()
    return made, str(answer["access_token"])


def test_what_may_pass_passes_and_the_api_hears_who_it_is(world: World, gated: Gated) -> None:
    made, token = granted(world, gated, "locks.run")
    forged = {"Guard-Client": "somebody", "Guard-Person": "else", "X-Original-URI": "/locks/e1"}
    heard = gated.call(token, "/locks/w1?deep=1", **forged).raise_for_status().json()
    assert (heard["path"], heard["guard-client"], heard["guard-scope"]) == (
        "/locks/w1?deep=1",
        made.id,
        "locks.run locks.view",
    )
    assert heard.keys().isdisjoint({"authorization", "guard-person", "guard-limits"})
    assert gated.call(token, "/locks/w1/drained", "PUT").status_code == 200
    assert gated.call(token, "/locks", "HEAD").status_code == 200
    with world.jamb() as steward:

        def counted() -> bool:
            (ladder,) = steward.clients.read(made.id).resources
            return set(ladder.rungs[0].used_operations) == {"locks.list", "lock.read", "lock.drain"}

        wait_until(counted)
        steward.clients.disable(made.id)
    wait_until(lambda: gated.call(token, "/locks").status_code == 401)


def test_what_may_not_is_told_why(world: World, gated: Gated) -> None:
    bare = gated.call("", "/locks")
    assert bare.status_code == 401
    assert f'resource_metadata="{gated.identifier}/.well-known' in bare.headers["WWW-Authenticate"]
    _, token = granted(world, gated, "locks.view")
    lacking = gated.call(token, "/locks/e1/drained", "PUT")
    assert (lacking.status_code, 'scope="locks.run"' in lacking.headers["WWW-Authenticate"]) == (403, True)
    elsewhere = world.ask_token(world.client(granted=["berths.view"])).json()["access_token"]
    assert gated.call(elsewhere, "/locks").status_code == 401
    about = gated.call("", "/.well-known/oauth-protected-resource").json()
    assert (about["resource"], set(about["scopes_supported"])) == (gated.identifier, {"locks.view", "locks.run"})


def test_reach_is_kept_and_no_path_gets_round_it(world: World, gated: Gated) -> None:
    _, token = granted(world, gated, "locks.view", kind="only", collections=["east"])
    assert gated.call(token, "/locks/e1").status_code == 200
    assert gated.call(token, "/locks/%65%31").status_code == 200, "the same, written otherwise"
    assert gated.call(token, "/locks/w1").status_code == 403
    limits = json.loads(gated.call(token, "/locks").json()["guard-limits"])
    assert limits == {"locks.view": [[{"collections": ["east"], "inverted": False}]]}
    before = len(gated.seen)
    for path in (
        "/locks/e1/../w1",
        "/locks/e1%2f..%2fw1",
        "/locks/e1/%2e%2e/w1",
        "/locks//w1",
        "//locks",
        "/locks/",
        "/locks/e1;w1",
        "/locks/e1%5c..%5cw1",
        "/locks/%FF",
        "/locks/e1%2500",
        "/Locks/e1",
        "/elsewhere",
    ):
        assert gated.call(token, path).status_code in {400, 403}, path
    assert gated.call(token, "/locks/e1", "DELETE").status_code == 403
    assert len(gated.seen) == before


def test_a_probe_is_let_in_nowhere_and_a_bound_token_needs_its_key(world: World, gated: Gated) -> None:
    made, _ = granted(world, gated, "locks.run")
    before = len(gated.seen)
    with world.jamb() as steward:
        tried = steward.clients.probe(made.id, gated.name, "lock.drain", object="e1")
    assert (tried.works, tried.call and tried.call.status) == (True, 204)
    assert len(gated.seen) == before
    endpoint = f"{world.base_url}/d/quillhaven/token"
    proof = ClientCredentials(
        made.id, made.secret, token_endpoint=endpoint, resource=gated.identifier, proof_key=ProofKey()
    )
    with httpx.Client(auth=proof, timeout=30) as http:
        assert http.get(f"{gated.url}/locks/e1?x=1").status_code == 200
    assert gated.call(proof.fetch(), "/locks").status_code == 401


def test_a_file_that_is_none_is_refused_in_a_sentence(tmp_path: Path) -> None:
    wrong = tmp_path / "guard.json"
    wrong.write_text('{"resource": "locks"}')
    program = [str(ROOT / ".venv/bin/jamb-guard"), "serve", "--config", str(wrong)]
    done = subprocess.run(program, capture_output=True, text=True, timeout=60, check=False, env=dict(os.environ))
    assert (done.returncode, "is no file of `jamb resources guard --save`" in done.stderr) == (2, True)
