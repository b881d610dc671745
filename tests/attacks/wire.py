"""What is slow, huge, endless, or sent under another name."""

from __future__ import annotations

import json
import socket
import time
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, contextmanager
from datetime import UTC, datetime
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from tempfile import TemporaryDirectory
from threading import Thread
from urllib.parse import urlsplit

import httpx

from tests import patient
from tests.attacks.scene import HERE, Attack, Scene, received, refused
from tests.operating import OPEN, PASSWORD, STEWARD, link_in, operating
from tests.world import choose_password, unique, wait_until


def slow(scene: Scene) -> None:
    """A byte now and then of a head, of a body, of a body that nobody waits for; and whoever never reads."""
    url = scene.strict
    port = urlsplit(url).port
    host = f"Host: 127.0.0.1:{port}\r\n".encode()
    begun = [
        b"POST /d/quillhaven/token HTTP/1.1\r\n" + host,
        b"POST /d/quillhaven/token HTTP/1.1\r\n"
        + host
        + b"Content-Type: application/x-www-form-urlencoded\r\nContent-Length: 90\r\n\r\n",
        b"POST /api/v1/session HTTP/1.1\r\n" + host + b"Content-Type: application/json\r\nContent-Length: 90\r\n\r\n",
        b"GET /health HTTP/1.1\r\n" + host + b"Content-Length: 90\r\n\r\n",
    ]

    def drip(head: bytes) -> tuple[float, bytes]:
        started = time.monotonic()
        with socket.create_connection(("127.0.0.1", port), timeout=0.3) as connection:
            connection.sendall(head)
            found = b""
            while time.monotonic() - started < 10:
                try:
                    connection.sendall(b"x")
                    part = connection.recv(65536)
                except TimeoutError:
                    continue
                except ConnectionError:
                    break
                if not part:
                    break
                found += part
        return time.monotonic() - started, found

    with ThreadPoolExecutor(4) as pool:
        for took, found in pool.map(drip, begun):
            assert took < 6, found
            assert b"408" in found or b"200 OK" in found
    # Who asks for much and reads nothing: the connection ends, and the file is not held in memory for ever.
    page = patient.get(url + "/").text
    asset = page.split('src="')[1].split('"')[0]
    ask = f"GET {asset} HTTP/1.1\r\n".encode() + host + b"\r\n"
    with socket.create_connection(("127.0.0.1", port), timeout=20) as connection:
        connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        connection.sendall(ask * 200)
        wait_until(lambda: not established(port, connection.getsockname()[1]), seconds=20)


def established(port: int, peer: int) -> bool:
    """Tell whether the service's end of a connection is open (Linux: /proc/net/tcp, state 01)."""
    rows = [line.split() for line in Path("/proc/net/tcp").read_text().splitlines()[1:]]
    ends = {(int(row[1].partition(":")[2], 16), int(row[2].partition(":")[2], 16)): row[3] for row in rows}
    return ends.get((port, peer)) == "01"


def half_a_body(scene: Scene) -> None:
    """Whoever goes away in the middle leaves nothing behind, in the log either."""
    log = scene.world.home / "service.log"
    before = log.stat().st_size
    for path, kind in (("/d/quillhaven/token", b"x-www-form-urlencoded"), ("/api/v1/session", b"json")):
        head = f"POST {path} HTTP/1.1\r\nHost: 127.0.0.1:{scene.world.port}\r\nContent-Length: 90\r\n".encode()
        for _ in range(5):
            with socket.create_connection(("127.0.0.1", scene.world.port)) as connection:
                connection.sendall(head + b"Content-Type: application/" + kind + b"\r\n\r\n{")
                time.sleep(0.05)
    wait_until(scene.ready)
    assert b"Exception" not in log.read_bytes()[before:]


def too_many_connections(scene: Scene) -> None:
    url = scene.strict
    port = urlsplit(url).port
    held = [socket.create_connection(("127.0.0.1", port)) for _ in range(12)]
    try:
        with socket.create_connection(("127.0.0.1", port), timeout=5) as further:
            assert b"503" in received(further)
        # From another address all goes on.
        transport = httpx.HTTPTransport(local_address="127.0.0.80")
        with patient.Client(transport=transport) as http:
            assert http.get(url + "/health").status_code == 200
    finally:
        for one in held:
            one.close()


def huge(scene: Scene) -> None:
    url = scene.world.base_url
    many = json.dumps({f"field{number}": 1 for number in range(1000)}).encode()
    assert len(many) > 12_000
    headers = {"Content-Type": "application/json"}
    answer = patient.post(url + "/api/v1/session", content=many, headers=headers)
    refused(answer, 422)
    assert len(answer.json()["fields"]) == 20
    assert len(answer.content) < 8_000
    for path, length in (
        ("/api/v1/session", 20_000),
        ("/api/v1/devices/lookup", 20_000),
        (f"{HERE}/clients", 2_000_000),
    ):
        refused(patient.post(url + path, content=b"x" * length, headers=headers), 413)
        refused(patient.post(url + path, content=iter([b" " * 60_000] * 40), headers=headers), 413)
    deep = b"[" * 10_000 + b"]" * 10_000
    refused(patient.post(url + "/api/v1/session", content=b'{"login":' + deep[:6000] + b"}", headers=headers), 400)
    head = b"GET / HTTP/1.1\r\nHost: x\r\n" + b"".join(b"X-%d: %s\r\n" % (one, b"y" * 900) for one in range(400))
    assert b"431" in scene.raw(head)


def a_slash_too_many(scene: Scene) -> None:
    url = scene.world.base_url
    for path in ("/api/v1/session/", "/d/quillhaven/token/", f"{HERE}/clients/"):
        for method in ("GET", "POST"):
            answer = patient.request(method, url + path, headers={"X-Forwarded-Proto": "https"})
            refused(answer, 404, 401, 405, 422)
            assert "location" not in answer.headers


def another_host(scene: Scene) -> None:
    url, person = scene.world.base_url, scene.world.person("auditor")
    body = {"login": person["login"], "password": person["password"]}
    for host in ("evil.example", f"rebound.example:{scene.world.port}", "127.0.0.1", ""):
        for path in ("/", "/api/v1/session", f"{HERE}/clients", "/d/quillhaven/jwks"):
            answer = patient.get(url + path, headers={"Host": host})
            refused(answer, 421)
            assert "evil" not in answer.text
        refused(patient.post(url + "/api/v1/session", json=body, headers={"Host": host}), 421)
    for origin in ("https://evil.example", f"http://rebound.example:{scene.world.port}", "null"):
        refused(patient.post(url + "/api/v1/session", json=body, headers={"Origin": origin}), 403)
    assert patient.get(url + "/health", headers={"Host": "10.0.0.7"}).status_code == 200, "a balancer asks by address"


def another_address(scene: Scene) -> None:
    made = scene.client
    form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": "x", "scope": unique("s")}
    headers = {"X-Forwarded-For": "203.0.113.66"}
    patient.post(scene.world.token_endpoint(), data=form, headers=headers)
    assert scene.world.failures(made.id)[0]["address"] == "127.0.0.1"
    with scene.world.second_process(scene.world.port + 9, JAMB_TRUSTED_PROXIES="127.0.0.1") as url:
        patient.post(f"{url}/d/quillhaven/token", data=form, headers=headers)
        assert scene.world.failures(made.id)[0]["address"] == "203.0.113.66"


def without_https(scene: Scene) -> None:
    """Where the public URL is https, the cookies stay with this host, and browsers come back by https alone."""
    public, port = "https://jamb.alder.example", scene.world.port + 9
    with ExitStack() as held:
        folder = Path(held.enter_context(TemporaryDirectory()))
        operator = held.enter_context(operating(scene.world, folder, port))
        link = link_in(operator.runs(*OPEN, *STEWARD, JAMB_PUBLIC_URL=public).stdout)
        url = held.enter_context(operator.serving(JAMB_PUBLIC_URL=public))
        choose_password(link.replace(public, url), PASSWORD)
        body = {"login": "ines@alder.example", "password": PASSWORD}
        answer = patient.post(url + "/api/v1/session", json=body)
        cookies = answer.headers.get_list("set-cookie")
        names = [cookie.split("=")[0] for cookie in cookies]
        assert names == ["__Host-jamb_session", "__Host-jamb_device", "__Host-jamb_sessions"]
        for cookie in cookies:
            assert {"Secure", "HttpOnly", "SameSite=strict", "Path=/"} <= set(cookie.split("; ")), cookie
            assert "Domain" not in cookie
        for path in ("/", "/api/v1/session", "/d/alder/jwks", "/nowhere/at/all"):
            assert patient.get(url + path).headers["Strict-Transport-Security"] == "max-age=63072000"
        # The address of a calendar is its key: no log has it, whether it is answered or refused.
        patient.get(f"{url}/d/alder/calendar/a-key-of-a-feed.ics")
        patient.get(f"{url}/d/alder/calendar/a-key-of-a-feed.ics", headers={"Host": "evil.example"})
        assert "a-key-of-a-feed" not in (folder / "log").read_text()


def methods(scene: Scene) -> None:
    for path, allowed in (
        ("/api/v1/session", "DELETE, GET, POST"),
        (f"{HERE}/clients", "GET, POST"),
        ("/d/quillhaven/token", "OPTIONS, POST"),
    ):
        answer = patient.request("PATCH", scene.world.base_url + path)
        refused(answer, 405)
        assert answer.headers["Allow"] == allowed


# What is asked of others


@contextmanager
def endless(pause: float) -> Iterator[tuple[str, list[int]]]:
    """A server that never ends its answer: in large pieces, or a byte at a time; yields its address and what it sent."""
    sent = [0]

    class Answer(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            self.send_response(500)
            self.end_headers()
            part = b"x" if pause else b"x" * 100_000
            try:
                while sent[0] < 300_000_000:
                    self.wfile.write(part)
                    sent[0] += len(part)
                    time.sleep(pause)
            except OSError:
                pass

        def do_POST(self) -> None:
            self.do_GET()

        def log_message(self, *_: object) -> None: ...

    with ThreadingHTTPServer(("127.0.0.1", 0), Answer) as server:
        server.daemon_threads = True
        Thread(target=server.serve_forever, daemon=True).start()
        try:
            yield f"http://127.0.0.1:{server.server_port}", sent
        finally:
            server.shutdown()


@contextmanager
def berths_at(scene: Scene, address: str) -> Iterator[None]:
    before = scene.steward.get(f"{HERE}/resources/berths").json()["address"]
    scene.put("/resources/berths/address", {"url": address}).raise_for_status()
    try:
        yield
    finally:
        scene.put("/resources/berths/address", {"url": before}).raise_for_status()


def probed(scene: Scene) -> None:
    with scene.as_person("steward") as http:
        http.base_url = scene.strict
        for pause in (0.0, 0.2):
            with endless(pause) as (address, sent), berths_at(scene, address):
                started = time.monotonic()
                body = {"resource": "berths", "operation": "berths.list"}
                answer = http.post(f"{HERE}/clients/{scene.client.id}/probe", json=body)
                assert answer.status_code == 200, answer.text
                assert time.monotonic() - started < 10
                assert sent[0] < 20_000_000, "what is not shown is not read"


# Growth


def refusals_without_end(scene: Scene) -> None:
    made = scene.world.client(granted=["berths.view"])
    with patient.Client() as http:
        form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": "wrong"}
        for _ in range(100):
            http.post(scene.world.token_endpoint(), data=form)
    failures = scene.world.failures(made.id)
    assert len(failures) <= 2, "equal ones are one a minute"
    assert sum(one["times"] for one in failures) == 100
    rows = "address = '127.0.0.1' and at > now() - interval '3 minutes' and outcome <> 'issued'"
    before = scene.count("attempt", rows)
    with patient.Client() as http:
        for number in range(150):
            http.post(scene.world.token_endpoint(), data={**form, "client_id": f"stranger-{number}"})
    assert scene.count("attempt", rows) - before <= 2 * 61
    with scene.world.database() as database:
        many = database.execute("select sum(times) from attempt where outcome = 'too-many'").fetchone()
    assert many[0] >= 20, "and of the rest it is known how many there were"


def late_tries_without_end(scene: Scene) -> None:
    with scene.as_person("custodian") as http:
        made = http.post(
            f"{HERE}/clients/{scene.client.id}/handovers",
            json={"credential": {"kind": "secret"}, "hours": 1, "label": unique("late")},
        )
        assert made.status_code == 201, made.text
    identity, _, key = made.json()["link"].rpartition("/")[2].partition("#")
    url = f"{scene.world.base_url}/api/v1/handovers/{identity}/opening"
    entries = "action = 'handover.tried-again' and subject ->> 'client' = %s"
    before = scene.count("ledger_entry", entries, scene.client.id)
    statuses = Counter(patient.post(url, json={"key": key}).status_code for _ in range(12))
    assert statuses == {200: 1, 409: 11}
    told = scene.count("ledger_entry", entries, scene.client.id) - before
    assert told == 3
    with scene.world.jamb("custodian") as custodian:
        found = next(one for one in custodian.handovers.list(scene.client.id) if str(one.id) == identity)
    assert found.late_tries == 11


def what_is_over_is_forgotten(scene: Scene) -> None:
    from jamb.store.base.retention import FORGET  # noqa: PLC0415 - the statements themselves are what is tried

    old = "now() - interval '30 days'"
    with scene.world.database() as database:
        person = database.execute("select id from person limit 1").fetchone()[0]
        database.execute(
            f"insert into console_session (digest, person_id, created_at, seen_at, expires_at) "
            f"values ('old', %s, {old}, {old}, {old})",
            [person],
        )
        database.execute(f"insert into tried (key, times, until) values ('old', 1, {old})")
        database.execute(
            "insert into device_request (id, directory_id, client_id, device_digest, user_digest, state, created_at, "
            f"expires_at, interval_seconds) select gen_random_uuid(), directory_id, id, 'old', 'old', 'pending', {old}, "
            f"{old}, 5 from client where id = %s",
            [scene.client.id],
        )
        tables = {
            "console_session": "expires_at",
            "tried": "until",
            "device_request": "expires_at",
        }
        for statement in FORGET.values():
            database.execute(statement, {"now": datetime.now(UTC)})
        for table, column in tables.items():
            assert scene.count(table, f"{column} < now() - interval '20 days'") == 0, table


def sign_ins_of_a_crowd(scene: Scene) -> None:
    """Many strangers from many addresses: whoever is signed in goes on working, and hears of no database that is gone."""
    scene.forget_tries()
    stop = []

    def stranger(number: int) -> Counter[int]:
        statuses: Counter[int] = Counter()
        while not stop:
            login = f"stranger{number}@quillhaven.example"
            answer = scene.sign_in(login, "not this one at all", address=f"127.0.1.{number + 1}")
            statuses[answer.status_code] += 1
            if answer.status_code == 429:
                time.sleep(0.2)
        return statuses

    with scene.as_person("steward") as http, ThreadPoolExecutor(48) as pool:
        crowd = [pool.submit(stranger, number) for number in range(48)]
        try:
            answers = [http.get(f"{HERE}/whoami") for _ in range(25)]
        finally:
            stop.append(True)
        told = sum((one.result() for one in crowd), Counter())
    assert {one.status_code for one in answers} == {200}
    assert set(told) <= {401, 429}, told
    assert told[429], "who comes when it is full is told when to come again"
    wait_until(scene.ready)
    scene.forget_tries()


ROWS = [
    Attack("heads, bodies and answers that trickle", "RFC 9110 15.5.9", "408, or the connection ends", slow),
    Attack("going away in the middle of a body", "RFC 6819 4.4.1.11", "no mistake in the log", half_a_body),
    Attack(
        "more connections than one address may have", "RFC 6819 4.4.1.11", "503 to that address", too_many_connections
    ),
    Attack(
        "huge, deep and endless bodies and heads", "RFC 9110 15.5.14, RFC 6585 5", "413, 422 in few words, 431", huge
    ),
    Attack(
        "a slash too many, to be sent to another host with the secret", "RFC 9700 4.11, 4.12", "404", a_slash_too_many
    ),
    Attack("a request for another host", "RFC 9110 7.4", "421", another_host),
    Attack("an address that the caller says it has", "RFC 9700 4.13", "not believed", another_address),
    Attack(
        "cookies and connections without https", "RFC 6265bis 4.1.3, RFC 6797", "__Host-, Secure, HSTS", without_https
    ),
    Attack("a method that is not possible", "RFC 9110 15.5.6", "405 with every method that is", methods),
    Attack("a resource that answers without end", "RFC 6819 4.4.1.11", "given up in time, unread", probed),
    Attack(
        "refused token requests without end", "RFC 6819 4.4.1.11", "counted in a row a minute", refusals_without_end
    ),
    Attack(
        "late tries at a link without end",
        "RFC 6819 4.4.1.11",
        "three in the ledger, then counted",
        late_tries_without_end,
    ),
    Attack("rows that nobody deletes", "RFC 6819 4.4.1.11", "forgotten after their end", what_is_over_is_forgotten),
    Attack("a crowd at the sign-in", "RFC 6819 5.1.4.2.3", "429 to the crowd, 200 to the steward", sign_ins_of_a_crowd),
]
