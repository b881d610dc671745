"""Behind a pooler of transactions, and behind a proxy with TLS: the programs of Debian, with what our pages say of them."""

from __future__ import annotations

import os
import pwd
import re
import shutil
import socket
import ssl
import subprocess
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import contextmanager
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import psycopg
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from tests import patient
from tests.world import ROOT, World, unique, wait_until

POOLER = """
[databases]
* = host={host} port={port}

[pgbouncer]
listen_addr = 127.0.0.1
listen_port = {listen}
unix_socket_dir =
auth_type = plain
auth_file = {folder}/users
pool_mode = transaction
default_pool_size = 8
logfile = {folder}/pooler.log
pidfile = {folder}/pooler.pid
"""


def dropped() -> list[str]:
    """Return the start of a command that does not run as the administrator, where we are the administrator."""
    return ["setpriv", "--reuid=nobody", "--regid=nogroup", "--clear-groups"] if os.getuid() == 0 else []


def shared() -> Path:
    """Return a folder that such a command reads and writes."""
    made = Path("/tmp") / f"jamb-{os.urandom(6).hex()}"
    made.mkdir(mode=0o700)
    if os.getuid() == 0:
        nobody = pwd.getpwnam("nobody")
        os.chown(made, nobody.pw_uid, nobody.pw_gid)
    return made


@contextmanager
def running(command: list[str], folder: Path, answers: tuple[str, int]) -> Iterator[None]:
    with (folder / "said").open("wb") as said:
        process = subprocess.Popen(command, stdout=said, stderr=said)
        try:
            wait_until(lambda: process.poll() is not None or listens(*answers))
            assert process.poll() is None, (folder / "said").read_text()
            yield
        finally:
            process.terminate()
            process.wait(timeout=30)


def listens(host: str, port: int) -> bool:
    with socket.socket() as tried:
        tried.settimeout(1)
        return tried.connect_ex((host, port)) == 0


def test_behind_a_pooler_of_transactions_everything_works(world: World) -> None:
    parts, folder, listen = urlsplit(world.cluster.url), shared(), world.port + 18
    (folder / "pooler.ini").write_text(
        POOLER.format(host=parts.hostname, port=parts.port, listen=listen, folder=folder)
    )
    (folder / "users").write_text(f'"{parts.username}" "{parts.password}"\n')
    for path in folder.iterdir():
        path.chmod(0o644)
    command = [*dropped(), shutil.which("pgbouncer") or "/usr/sbin/pgbouncer", str(folder / "pooler.ini")]
    made = world.client(granted=["berths.view"])
    settings = {
        "JAMB_DATABASE_URL": world.cluster.url.replace(f":{parts.port}/", f":{listen}/"),
        "JAMB_DATABASE_POOLED": "true",
        "JAMB_DIRECT_DATABASE_URL": world.cluster.url,
        "JAMB_NOTICES_CRON": "* * * * *",
    }
    try:
        with running(command, folder, ("127.0.0.1", listen)), world.second_process(**settings) as base:
            form = {"grant_type": "client_credentials", "client_id": made.id, "client_secret": made.secret}
            bearer = {"Authorization": f"Bearer {world.token('steward')}"}
            clients = f"{base}/api/v1/directories/quillhaven/clients"

            def both(_: int) -> tuple[int, int]:
                fetched = httpx.post(f"{base}/d/quillhaven/token", data=form, timeout=60)
                body = {"name": unique("Pooled"), "purpose": "Tries a pooler"}
                return fetched.status_code, httpx.post(clients, json=body, headers=bearer, timeout=60).status_code

            with ThreadPoolExecutor(8) as pool:
                assert set(pool.map(both, range(40))) == {(200, 201)}
            assert patient.get(f"{base}/ready").status_code == 200, patient.get(f"{base}/ready").text
            with psycopg.connect(world.cluster.url) as database:
                found = database.execute(
                    "select count(*) from pg_stat_activity where application_name = 'jamb queue'"
                ).fetchone()
                assert found is not None
                assert found[0] >= 1, "the queue listens past the pooler"
    finally:
        shutil.rmtree(folder)


def make_certificate(folder: Path) -> None:
    now, key = datetime.now(UTC), ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "jamb.alder.example")])
    made = (
        x509.CertificateBuilder(name, name, key.public_key(), x509.random_serial_number(), now, now + timedelta(days=1))
    ).sign(key, SHA256())
    (folder / "fullchain.pem").write_bytes(made.public_bytes(Encoding.PEM))
    (folder / "key.pem").write_bytes(key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()))


def test_behind_the_proxy_of_our_page_addresses_cookies_and_headers_are_right(world: World) -> None:
    folder, listen, behind = shared(), world.port + 18, world.port + 7
    make_certificate(folder)
    server = (ROOT / "packaging/nginx.conf").read_text()
    for printed, here in (
        ("listen 443 ssl", f"listen 127.0.0.1:{listen} ssl"),
        ("/etc/jamb/tls", str(folder)),
        ("127.0.0.1:8440", f"127.0.0.1:{behind}"),
        ("$host;", "$http_host;"),
    ):
        assert printed in server
        server = server.replace(printed, here)
    temporary = "".join(
        f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    (folder / "nginx.conf").write_text(
        f"daemon off; pid {folder}/pid; error_log {folder}/error.log;\nevents {{}}\n"
        f"http {{ access_log off; {temporary}\n{server}\n}}\n"
    )
    for path in folder.iterdir():
        path.chmod(0o644)
    command = [
        *dropped(),
        shutil.which("nginx") or "/usr/sbin/nginx",
        "-e",
        f"{folder}/start.log",
        "-c",
        f"{folder}/nginx.conf",
    ]
    context = ssl.create_default_context()
    context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
    settings = {
        "JAMB_HOSTS": f"jamb.alder.example:{listen}",
        "JAMB_TRUSTED_PROXIES": "127.0.0.1",
        "JAMB_METRICS_TOKEN": "counted",
    }
    host = {"Host": f"jamb.alder.example:{listen}"}
    try:
        with (
            world.second_process(behind, **settings),
            running(command, folder, ("127.0.0.1", listen)),
            httpx.Client(base_url=f"https://127.0.0.1:{listen}", headers=host, verify=context, timeout=60) as http,
        ):
            assert http.get("/ready").status_code == 200
            assert http.get("/metrics", headers={"Authorization": "Bearer counted"}).status_code == 403
            assert (
                http.post("/api/v1/session", json={"login": "x@y.example", "password": "x" * 1_100_000}).status_code
                == 413
            )
            person = world.person("steward")
            body = {"login": person["login"], "password": person["password"]}
            signed_in = http.post("/api/v1/session", json=body, headers={"X-Forwarded-For": "203.0.113.9"})
            assert signed_in.status_code == 200, signed_in.text
            assert http.get("/api/v1/directories/quillhaven/clients").status_code == 200
            log = (world.home / "second.log").read_text()
            addresses = set(
                re.findall(r'"path": "/api/v1/session", "status": 200, "ms": [\d.]+, "address": "([^"]*)"', log)
            )
            assert "203.0.113.9" not in addresses, "what a caller says of itself is not passed on"
    finally:
        shutil.rmtree(folder)
