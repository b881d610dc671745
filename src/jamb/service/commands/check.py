"""Look at everything that a process stands on, and say of each whether it is right."""

from __future__ import annotations

import shutil
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from functools import partial
from pathlib import Path
from typing import NamedTuple
from urllib.parse import urlsplit

import aiosmtplib
import anyio
import httpx
from cryptography import x509
from sqlalchemy import Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from jamb.actions.directory.addresses import address_fault
from jamb.core.errors import JambError
from jamb.service.config.sealing import sealing_fault
from jamb.service.config.settings import Settings, read_settings
from jamb.service.config.sources import unknown
from jamb.service.http.tls import certificate_in
from jamb.service.work.mails import Mailer
from jamb.store.base import sealing_marks
from jamb.store.base.migrate import revision_of, schema_fault, unfinished
from jamb.store.connections.bounded import Patience
from jamb.store.connections.engine import make_engine
from jamb.store.connections.outages import reason_of
from jamb.store.connections.server import clock_apart, missing_rights, server_of

SECONDS = 5.0
LEAST_FREE_BYTES = 200_000_000
CERTIFICATE_DAYS = 14


class Looked(NamedTuple):
    """One thing that was looked at. `fault`: what is wrong, and what to do; empty: nothing. `found`: how it is."""

    name: str
    found: str
    fault: str = ""


def looks() -> Iterator[Looked]:
    """Look at one thing after the other; what stands on a thing that is wrong is not looked at."""
    try:
        settings = read_settings()
    except JambError as error:
        yield Looked("settings", "", error.message)
        return
    strange = unknown(Settings.model_fields)
    yield Looked("settings", f"{len(Settings.model_fields)} settings", "; ".join(strange))
    if settings.tls_certificate is not None:
        yield _guarded("TLS", partial(_tls, settings, settings.tls_certificate))
    try:
        pooled = {settings.direct_database(): False, settings.database(): settings.database_pooled}
    except JambError as error:
        yield Looked("database", "", error.message)
        return
    engines = [make_engine(url, Patience(SECONDS, way), pool_size=1, name="jamb check") for url, way in pooled.items()]
    for engine in engines:
        looked = _guarded("database", partial(_database, engine))
        yield looked
        if looked.fault:
            return
    engine = engines[0]
    yield _guarded("rights", partial(_rights, engine))
    schema = _guarded("schema", partial(_schema, engine))
    yield schema
    if not schema.fault:
        yield _guarded("sealing key", partial(_sealing, settings, engine))
        yield _guarded("public address", partial(_public_address, settings, engine))
    yield _guarded("clock", partial(_clock, engine))
    yield _mail(settings)
    yield _disk(settings)


def _guarded(name: str, look: Callable[[], Looked]) -> Looked:
    try:
        return look()
    except SQLAlchemyError as error:
        return Looked(name, "", reason_of(error).get("words") or type(error).__name__)
    except JambError as error:
        return Looked(name, "", error.message)


def _tls(settings: Settings, file: Path) -> Looked:
    settings.tls()
    found, now = certificate_in(file), datetime.now(UTC)
    try:
        said = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except x509.ExtensionNotFound:
        said = x509.SubjectAlternativeName([])
    names = [*said.get_values_for_type(x509.DNSName), *map(str, said.get_values_for_type(x509.IPAddress))]
    ends, host = found.not_valid_after_utc, urlsplit(settings.base_url).hostname or ""
    fault = ""
    if ends - now < timedelta(days=CERTIFICATE_DAYS):
        fault = f"the certificate {'expired' if ends <= now else 'expires'} on {ends:%Y-%m-%d %H:%M} UTC: renew it"
    elif not any(name == host or (name.startswith("*.") and host.partition(".")[2] == name[2:]) for name in names):
        fault = f"the certificate is for {', '.join(names) or 'no name'}, and the public address is {host}"
    return Looked("TLS", f"for {', '.join(names)}, until {ends:%Y-%m-%d}", fault)


def _database(engine: Engine) -> Looked:
    with Session(engine) as session:
        server = server_of(session)
    return Looked(
        "database",
        f"PostgreSQL {server.version}, {server.most_connections} connections at most",
        "it takes no changes: it is a standby, or set read-only" if server.read_only else "",
    )


def _rights(engine: Engine) -> Looked:
    with Session(engine) as session:
        missing = missing_rights(session)
    return Looked("rights", "may create, read and change", "; ".join(missing))


def _schema(engine: Engine) -> Looked:
    with Session(engine) as session:
        revision = revision_of(session)
        there = revision is not None and sealing_marks.any_directory(session)
        fault = schema_fault(session) if revision is not None else ""
        more = "; `jamb-service migrate --finish` is to follow" if not fault and unfinished(session) else ""
    if revision is None:
        return Looked("schema", "none yet", "run `jamb-service directories open`, or `jamb-service migrate`")
    if fault:
        return Looked("schema", revision, fault)
    return Looked(
        "schema", revision + more, "" if there else "there is no directory yet: run `jamb-service directories open`"
    )


def _sealing(settings: Settings, engine: Engine) -> Looked:
    key = settings.kept_sealing_key()
    where = "JAMB_SEALING_KEY" if settings.sealing_key is not None else str(settings.home)
    if key is None:
        return Looked(
            "sealing key", "", f"there is none in {where}; the first `jamb-service directories open` makes it"
        )
    return Looked("sealing key", f"from {where}", sealing_fault(engine, key.mark))


def _clock(engine: Engine) -> Looked:
    with Session(engine) as session:
        return Looked("clock", "agrees with the database's", clock_apart(session))


def _mail(settings: Settings) -> Looked:
    mailer = Mailer.of(settings)
    if mailer is None:
        return Looked("mail", "no mail server is set: mails wait, links are handed over by hand")
    server = mailer.server()

    async def greet() -> None:
        with anyio.fail_after(SECONDS):
            async with server:
                await server.noop()

    try:
        anyio.run(greet)
    except (aiosmtplib.SMTPException, OSError, TimeoutError) as error:
        return Looked("mail", "", f"{server.hostname}:{server.port} does not answer as a mail server: {error}"[:300])
    return Looked("mail", f"{server.hostname}:{server.port} answers")


def _public_address(settings: Settings, engine: Engine) -> Looked:
    url = settings.base_url
    if fault := address_fault(engine, url):
        return Looked("public address", url, fault)
    parts = urlsplit(url)
    local = parts.hostname in {"127.0.0.1", "localhost", "::1"}
    if parts.scheme != "https" and not local:
        return Looked("public address", url, "it is not https: tokens and secrets would travel in the open")
    try:
        answer = httpx.get(f"{url}/health", timeout=SECONDS, follow_redirects=False)
    except (httpx.HTTPError, OSError) as error:
        return Looked("public address", f"{url} does not answer now ({type(error).__name__}): not served yet, perhaps")
    if answer.status_code != httpx.codes.OK or "status" not in answer.text:
        return Looked("public address", url, f"something else answers there: {answer.status_code}")
    return Looked("public address", f"{url} answers")


def _disk(settings: Settings) -> Looked:
    folder = settings.home if settings.home.exists() else settings.home.parent
    if not folder.exists():
        return Looked("disk", f"{settings.home} is not there", "")
    free = shutil.disk_usage(folder).free
    fault = f"less than {LEAST_FREE_BYTES // 1_000_000} MB" if free < LEAST_FREE_BYTES else ""
    return Looked("disk", f"{free // 1_000_000} MB free in {folder}", fault)
