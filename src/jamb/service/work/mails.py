"""Mails by mail (RFC 5321, RFC 5322): each is taken by one process, sent and marked; a failure is tried again."""

from __future__ import annotations

import asyncio
from contextlib import suppress
from dataclasses import dataclass
from datetime import UTC, datetime
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTP, SMTPUTF8
from email.utils import format_datetime
from urllib.parse import unquote, urlsplit

import aiosmtplib
import structlog
from sqlmodel import Session
from starlette.concurrency import run_in_threadpool

from jamb.actions.base.backend import Backend
from jamb.actions.base.duties import said_of
from jamb.actions.notices.notices import mail
from jamb.service.config.settings import Settings
from jamb.store.base.work import observation
from jamb.store.directory.people import PersonRow
from jamb.store.notices import notices
from jamb.store.notices.notices import MailRow

MOST_IN_A_ROUND = 2000
INACTIVE = "its reader was made inactive before it was sent"
_log = structlog.get_logger("jamb.mail")


@dataclass(frozen=True, slots=True)
class Mailer:
    """The mail server of a URL: smtp://, smtp+tls:// (STARTTLS) or smtps://. None: mails wait."""

    url: str
    sender: str
    seconds: float

    @classmethod
    def of(cls, settings: Settings) -> Mailer | None:
        if settings.smtp_url is None:
            return None
        return cls(settings.smtp_url.get_secret_value(), settings.mail_from, settings.mail_seconds)

    def server(self) -> aiosmtplib.SMTP:
        parts = urlsplit(self.url)
        return aiosmtplib.SMTP(
            hostname=parts.hostname,
            port=parts.port or (465 if parts.scheme == "smtps" else 25),
            use_tls=parts.scheme == "smtps",
            start_tls=parts.scheme == "smtp+tls",
            timeout=self.seconds,
            username=unquote(parts.username) if parts.username else None,
            password=unquote(parts.password) if parts.password else None,
        )


async def send_mails(backend: Backend, mailer: Mailer | None) -> int:
    """Send the mails that are due; return how many were. Nothing is taken while there is no mail server.

    Each is taken, made, sent and marked by itself: one that cannot be made or sent holds up no other.
    """
    if mailer is None:
        return 0
    sent = 0
    server: aiosmtplib.SMTP | None = None
    try:
        for _ in range(MOST_IN_A_ROUND):
            row = await run_in_threadpool(_take, backend)
            if row is None:
                break
            error = ""
            try:
                message = await run_in_threadpool(_message, backend, row, mailer.sender)
                if server is None:
                    server = await _connected(mailer)
                async with asyncio.timeout(mailer.seconds):
                    await server.send_message(message)
            except aiosmtplib.SMTPResponseException as refused:
                error = f"{refused.code} {refused.message}"
            except (aiosmtplib.SMTPException, OSError, TimeoutError) as away:
                _log.warning("the mail server does not answer, will try again", error=type(away).__name__)
                await run_in_threadpool(_mark, backend, row, f"{type(away).__name__}: {away}"[:200])
                break
            except Exception as fault:  # noqa: BLE001 - it is put aside, and the others go
                _log.exception("a mail cannot be sent", mail=str(row.id))
                error = said_of(fault)
            # At once, so that a process that ends here has told of as many as it sent.
            await run_in_threadpool(_mark, backend, row, error)
            sent += not error
    finally:
        if server is not None:
            with suppress(aiosmtplib.SMTPException, OSError, TimeoutError):
                async with asyncio.timeout(mailer.seconds):
                    await server.quit()
    return sent


async def _connected(mailer: Mailer) -> aiosmtplib.SMTP:
    server = mailer.server()
    async with asyncio.timeout(mailer.seconds):
        await server.connect()
    return server


def _take(backend: Backend) -> MailRow | None:
    """Take the next mail that is due. Those of people who were made inactive meanwhile are given up."""
    while True:
        with observation(backend.engine) as session:
            row = notices.claim(session, MailRow, datetime.now(UTC))
            if row is None or session.get_one(PersonRow, row.person_id).active:
                return row
            row.failed = INACTIVE
            notices.forget_links(session, row.id)


def _message(backend: Backend, row: MailRow, sender: str) -> EmailMessage:
    with Session(backend.engine) as session:
        person, domain, words = mail(session, backend, row)
        # RFC 6532, for whoever has an address that is not ASCII; a server that cannot take it says so.
        message = EmailMessage(policy=SMTP if person.login.isascii() else SMTPUTF8)
        message["From"] = sender or str(Address("Jamb", "jamb", domain))
        local, _, host = person.login.rpartition("@")
        message["To"] = Address(person.name, local, host)
        message["Subject"] = words.subject
        message["Date"] = format_datetime(row.made_at)
        # The same at every try: a server that has it already may drop another.
        message["Message-ID"] = f"<{row.id}@{domain}>"
        message["Auto-Submitted"] = "auto-generated"
        message.set_content(words.text)
        return message


def _mark(backend: Backend, row: MailRow, error: str) -> None:
    with observation(backend.engine) as session:
        held = session.get_one(MailRow, row.id, with_for_update=True)
        notices.note_try(held, datetime.now(UTC), error)
        session.add(held)
        if held.sent_at is not None or held.failed:
            notices.forget_links(session, row.id)
