"""The stand-in mailbox: takes every mail by SMTP and shows it in the browser. Nothing leaves the machine."""

from __future__ import annotations

import html
from collections import deque
from dataclasses import dataclass
from email import message_from_bytes, policy

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session
from fastapi import APIRouter
from fastapi.responses import HTMLResponse, PlainTextResponse

MOST_KEPT = 2000
_STYLE = (
    "body{font:15px/1.5 system-ui,sans-serif;margin:32px auto;max-width:900px;color:#23282b;background:#f4f1ea}"
    "table{border-collapse:collapse;width:100%;background:#fffdf8}td,th{text-align:left;padding:6px 10px;"
    "border-bottom:1px solid #d9d3c5}pre{background:#fffdf8;padding:16px;white-space:pre-wrap;overflow-wrap:anywhere}"
    "a{color:#1d5b73}"
)


@dataclass(frozen=True, slots=True)
class Mail:
    id: int
    message_id: str
    to: str
    subject: str
    at: str
    text: str


class Mailbox:
    """Keeps the last mails in memory, the newest first."""

    def __init__(self) -> None:
        self.mails: deque[Mail] = deque(maxlen=MOST_KEPT)
        self._count = 0

    # The name is the library's.
    async def handle_DATA(self, _server: SMTP, _session: Session, envelope: Envelope) -> str:  # noqa: N802
        content = envelope.content if isinstance(envelope.content, bytes) else b""
        message = message_from_bytes(content, policy=policy.default)
        self._count += 1
        self.mails.appendleft(
            Mail(
                self._count,
                str(message["Message-ID"]),
                str(message["To"]),
                str(message["Subject"]).strip(),
                str(message["Date"]),
                message.get_content(),
            )
        )
        return "250 taken"

    def serve(self, port: int) -> Controller:
        controller = Controller(self, hostname="127.0.0.1", port=port)
        controller.start()
        return controller


def mailbox_router(mailbox: Mailbox) -> APIRouter:
    router = APIRouter(prefix="/mailbox")

    @router.get("")
    def mails() -> HTMLResponse:
        rows = "".join(
            f"<tr><td>{html.escape(one.at)}</td><td>{html.escape(one.to)}</td>"
            f'<td><a href="/mailbox/{one.id}">{html.escape(one.subject)}</a></td></tr>'
            for one in mailbox.mails
        )
        empty = "<p>No mail yet: notices are looked for every minute.</p>" if not rows else ""
        table = f"<table><tr><th>Date</th><th>To</th><th>Subject</th></tr>{rows}</table>" if rows else ""
        return page("Stand-in mailbox", f"<h1>Stand-in mailbox</h1>{empty}{table}")

    @router.get("/mails")
    def as_json() -> list[Mail]:
        return list(mailbox.mails)

    @router.get("/{mail}", response_model=None)
    def one_mail(mail: int) -> HTMLResponse | PlainTextResponse:
        found = next((one for one in mailbox.mails if one.id == mail), None)
        if found is None:
            return PlainTextResponse("There is no such mail.", 404)
        body = f"<h1>{html.escape(found.subject)}</h1><p>To {html.escape(found.to)}, {html.escape(found.at)}</p>"
        return page(found.subject, f'<p><a href="/mailbox">All mails</a></p>{body}<pre>{html.escape(found.text)}</pre>')

    return router


def page(title: str, body: str) -> HTMLResponse:
    head = f'<meta charset="utf-8"><title>{html.escape(title)}</title><style>{_STYLE}</style>'
    return HTMLResponse(f'<!doctype html><html lang="en"><head>{head}</head><body>{body}</body></html>')
