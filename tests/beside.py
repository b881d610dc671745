"""What stands beside the service in production: a pooler of transactions and a proxy with TLS, the programs of Debian."""

from __future__ import annotations

import os
import pwd
import shutil
import signal
import socket
import ssl
import subprocess
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from pathlib import Path
from urllib.parse import urlsplit

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat

from tests.world import ROOT, wait_until

HOST = "jamb.alder.example"


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
def running(command: list[str], folder: Path, port: int) -> Iterator[subprocess.Popen[bytes]]:
    with (folder / "said").open("wb") as said:
        process = subprocess.Popen(command, stdout=said, stderr=said)
        try:
            wait_until(lambda: process.poll() is not None or listens(port))
            assert process.poll() is None, (folder / "said").read_text()
            yield process
        finally:
            process.terminate()
            process.wait(timeout=30)


def unused_port() -> int:
    with socket.socket() as tried:
        tried.bind(("127.0.0.1", 0))
        return int(tried.getsockname()[1])


def listens(port: int) -> bool:
    with socket.socket() as tried:
        tried.settimeout(1)
        return tried.connect_ex(("127.0.0.1", port)) == 0


@dataclass
class Pooler:
    """`url`: the database through it."""

    url: str
    _folder: Path
    _listen: int
    _process: subprocess.Popen[bytes] | None = None

    def lead_to(self, url: str) -> None:
        """Lead to another server, as after a promotion."""
        parts = urlsplit(url)
        text = (ROOT / "packaging/pgbouncer.ini").read_text()
        for printed, here in (
            ("jamb = host=10.0.0.6 port=5432", f"* = host={parts.hostname} port={parts.port}"),
            ("6432", str(self._listen)),
            ("/etc/jamb/pooler-users", f"{self._folder}/users"),
            ("/var/log/jamb", str(self._folder)),
            ("/run/jamb", str(self._folder)),
        ):
            assert printed in text
            text = text.replace(printed, here)
        (self._folder / "pooler.ini").write_text(text)
        if self._process is not None:
            self._process.send_signal(signal.SIGHUP)


@contextmanager
def pooling(url: str, listen: int) -> Iterator[Pooler]:
    """Put PgBouncer in front of a database, for transactions."""
    parts, folder = urlsplit(url), shared()
    try:
        made = Pooler(url.replace(f":{parts.port}/", f":{listen}/"), folder, listen)
        made.lead_to(url)
        (folder / "users").write_text(f'"{parts.username}" "{parts.password}"\n')
        for path in folder.iterdir():
            path.chmod(0o644)
        command = [*dropped(), shutil.which("pgbouncer") or "/usr/sbin/pgbouncer", str(folder / "pooler.ini")]
        with running(command, folder, listen) as made._process:
            yield made
    finally:
        shutil.rmtree(folder)


@contextmanager
def proxied(ports: Sequence[int], listen: int) -> Iterator[ssl.SSLContext]:
    """Put nginx in front of services, by the configuration that is packaged; yield how its certificate is taken."""
    changed = {
        "server 127.0.0.1:8440;": " ".join(f"server 127.0.0.1:{port};" for port in ports),
        "$host;": "$http_host;",
    }
    with nginx("nginx.conf", listen, changed):
        context = ssl.create_default_context()
        context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        yield context


@contextmanager
def nginx(packaged: str, listen: int, changed: Mapping[str, str]) -> Iterator[None]:
    """Serve a configuration that is packaged, with other addresses in it."""
    folder = shared()
    make_certificate(folder)
    server = (ROOT / "packaging" / packaged).read_text()
    here = {"listen 443 ssl": f"listen 127.0.0.1:{listen} ssl", "/etc/jamb/tls": str(folder), **changed}
    for printed, other in here.items():
        assert printed in server
        server = server.replace(printed, other)
    temporary = "".join(
        f"{kind}_temp_path {folder}/{kind};" for kind in ("client_body", "proxy", "fastcgi", "uwsgi", "scgi")
    )
    (folder / "nginx.conf").write_text(
        f"daemon off; pid {folder}/pid; error_log {folder}/error.log;\nevents {{}}\n"
        f"http {{ access_log off; {temporary}\n{server}\n}}\n"
    )
    for path in folder.iterdir():
        path.chmod(0o644)
    program = shutil.which("nginx") or "/usr/sbin/nginx"
    command = [*dropped(), program, "-e", f"{folder}/start.log", "-c", f"{folder}/nginx.conf"]
    try:
        with running(command, folder, listen):
            yield
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
