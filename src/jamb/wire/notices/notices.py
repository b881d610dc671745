"""Notices and webhooks."""

from __future__ import annotations

from uuid import UUID

from pydantic import StrictBool

from jamb.core.directory.duties import Duty
from jamb.core.notices import NoticeKind
from jamb.wire.base.shapes import Answered, Moment, RecipientKeyText, Sent
from jamb.wire.base.text import HttpsAddress


class Notice(Answered):
    """Something one person was told, or shall be. `sent_at`: when the mail that carries it went out.

    `error`: why the last try to send that mail failed; `failed`: that it was given up.
    """

    id: UUID
    kind: NoticeKind
    person: str
    client_id: str
    words: str
    path: str
    at: Moment
    sent_at: Moment | None
    error: str
    failed: bool


class FailingDuty(Answered):
    """Something that the service does in every round, and could not. `failures`: in a row, the first at `since`."""

    duty: Duty
    failures: int
    since: Moment
    error: str
    again_at: Moment


class NewWebhook(Sent):
    """`url`: an https address, or one of a host of the inner network that the service's setting names.

    `key`: its public key, to seal credentials to; empty: none are sent there.
    """

    url: HttpsAddress
    key: RecipientKeyText = ""


class Webhook(Answered):
    """`waiting`: events that are still to be taken; `dead`: those given up; `error`: what the last try met.

    `key_id`: of the key that credentials for it are sealed to; empty: none.
    """

    id: UUID
    url: str
    made_at: Moment
    made_by: str
    waiting: int
    dead: int
    sent: int
    error: str
    key_id: str = ""


class DeadEvent(Answered):
    """An event that a webhook did not take after all tries."""

    id: UUID
    kind: str
    words: str
    made_at: Moment
    tries: int
    failed: str


class NewCalendar(Sent):
    """`whole`: of the whole directory, for who may read it; else of one's own clients."""

    whole: StrictBool = False


class CalendarFeed(Answered):
    """`url` is the key to the feed, and in this answer only; the one before it ended."""

    url: str
    whole: bool
