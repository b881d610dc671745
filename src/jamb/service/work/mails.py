"""Letters by mail (RFC 5321, RFC 5322): each is taken by one process, sent and marked; a failure is tried again."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from email.message import EmailMessage
from email.utils import format_datetime, formataddr
from urllib.parse import unquote, urlsplit
from uuid import UUID

import aiosmtplib
import structlog
from sqlmodel import Session
from starlette.concurrency import run_in_threadpool

from jamb.actions.notices import letter
from jamb.actions.premises import Premises
from jamb.service.settings import Settings
from jamb.store import notices
from jamb.store.notices import MailRow
from jamb.store.work import observation

AT_ONCE = 50
TIMEOUT_SECONDS = 20
_log = structlog.get_logger("jamb.mail")


@dataclass(frozen=True, slots=True)
class Mailer:
    """The mail server of a URL: smtp://, smtp+tls:// (STARTTLS) or smtps://. None: letters wait."""

    url: str
    sender: str

    @classmethod
    def of(cls, settings: Settings) -> Mailer | None:
        if settings.smtp_url is None:
            return None
        return cls(settings.smtp_url.get_secret_value(), settings.mail_from)

    def server(self) -> aiosmtplib.SMTP:
        parts = urlsplit(self.url)
        return aiosmtplib.SMTP(
            hostname=parts.hostname, port=parts.port or (465 if parts.scheme == "smtps" else 25),
            use_tls=parts.scheme == "smtps", start_tls=parts.scheme == "smtp+tls", timeout=TIMEOUT_SECONDS,
            username=unquote(parts.username) if parts.username else None,
            password=unquote(parts.password) if parts.password else None,
        )  # fmt: skip


async def send_mails(premises: Premises, mailer: Mailer | None) -> int:
    """Send the letters that are due; return how many were taken. Nothing is taken while there is no mail server."""
    if mailer is None:
        return 0
    taken = await run_in_threadpool(_take, premises, mailer.sender)
    if not taken:
        return 0
    ended: set[UUID] = set()
    try:
        async with mailer.server() as server:
            for row, message in taken:
                error = ""
                try:
                    await server.send_message(message)
                except aiosmtplib.SMTPResponseException as refused:
                    error = f"{refused.code} {refused.message}"
                # At once, so that a process that ends here has told of as many as it sent.
                await run_in_threadpool(_mark, premises, row, error)
                ended.add(row.id)
    except (aiosmtplib.SMTPException, OSError) as error:
        said = f"{type(error).__name__}: {error}"[:200]
        _log.warning("the mail server does not answer, will try again", error=type(error).__name__)
        for row, _ in taken:
            if row.id not in ended:
                await run_in_threadpool(_mark, premises, row, said)
        return 0
    return len(taken)


def _take(premises: Premises, sender: str) -> list[tuple[MailRow, EmailMessage]]:
    with observation(premises.engine) as session:
        rows = notices.claim(session, MailRow, datetime.now(UTC), AT_ONCE)
        return [(row, _message(session, premises, row, sender)) for row in rows]


def _message(session: Session, premises: Premises, row: MailRow, sender: str) -> EmailMessage:
    person, domain, words = letter(session, premises, row)
    message = EmailMessage()
    message["From"] = sender or formataddr(("Jamb", f"jamb@{domain}"))
    message["To"] = formataddr((person.name, person.login))
    message["Subject"] = words.subject
    message["Date"] = format_datetime(row.made_at)
    # The same at every try: a server that has it already may drop another.
    message["Message-ID"] = f"<{row.id}@{domain}>"
    message["Auto-Submitted"] = "auto-generated"
    message.set_content(words.text)
    return message


def _mark(premises: Premises, row: MailRow, error: str) -> None:
    with observation(premises.engine) as session:
        held = session.get_one(MailRow, row.id, with_for_update=True)
        notices.note_try(held, datetime.now(UTC), error)
        session.add(held)
        if held.sent_at is not None or held.failed:
            notices.forget_links(session, row.id)
