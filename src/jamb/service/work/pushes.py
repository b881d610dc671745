"""Events for webhooks: security event tokens (RFC 8417), signed with the directory's key, pushed by POST (RFC 8935).

A receiver verifies them with the keys of the directory's metadata, so that there is no secret to share, and drops a
`jti` that it has seen. What it does not take is tried again, later and later, and at last kept until someone looks.
"""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import httpx
import jwt
import structlog
from sqlmodel import Session, col, select
from starlette.concurrency import run_in_threadpool

from jamb.actions.premises import Premises
from jamb.service.office import Office
from jamb.service.outward import NotSpokenTo, outward_client, pinned
from jamb.store import notices
from jamb.store.directories import DirectoryRow, signing_keys
from jamb.store.notices import PushRow, WebhookRow
from jamb.store.work import observation

AT_ONCE = 50
TIMEOUT_SECONDS = 10
MEDIA_TYPE = "application/secevent+jwt"
EVENT_PREFIX = "urn:jamb:event:"
_log = structlog.get_logger("jamb.push")


@dataclass(frozen=True, slots=True)
class _Taken:
    row: PushRow
    url: str
    kid: str
    claims: dict[str, Any]


class Pusher:
    def __init__(self, office: Office) -> None:
        self._keyring, self._inner = office.keyring, office.settings.inner()
        self._http = outward_client(TIMEOUT_SECONDS)

    async def close(self) -> None:
        await self._http.aclose()

    async def push(self, taken: _Taken) -> str:
        """Send one event; return why it was not taken, or nothing."""
        key = await run_in_threadpool(self._keyring.private, taken.kid)
        token = jwt.encode(taken.claims, key, "ES256", {"kid": taken.kid, "typ": "secevent+jwt"})
        try:
            place = await pinned(taken.url, self._inner)
            headers = {**place.headers, "Content-Type": MEDIA_TYPE, "Accept": "application/json"}
            answer = await self._http.post(place.url, content=token, headers=headers, extensions=place.extensions)
        except NotSpokenTo as error:
            return str(error)
        except httpx.HTTPError as error:
            return type(error).__name__
        return "" if answer.is_success else f"it answered {answer.status_code}"


async def send_pushes(premises: Premises, pusher: Pusher) -> int:
    """Push the events that are due; return how many were taken."""
    taken = await run_in_threadpool(_take, premises)
    for one in taken:
        error = await pusher.push(one)
        if error:
            _log.warning("a webhook did not take an event", webhook=str(one.row.webhook_id), error=error)
        await run_in_threadpool(_mark, premises, one.row.id, error)
    return len(taken)


def _take(premises: Premises) -> list[_Taken]:
    now = datetime.now(UTC)
    with observation(premises.engine) as session:
        rows = notices.claim(session, PushRow, now, AT_ONCE)
        if not rows:
            return []
        hooks = {
            hook.id: (hook, directory)
            for hook, directory in session.exec(
                select(WebhookRow, DirectoryRow)
                .join(DirectoryRow, col(DirectoryRow.id) == WebhookRow.directory_id)
                .where(col(WebhookRow.id).in_({row.webhook_id for row in rows}))
            )
        }
        kids = {directory.id: _kid(session, directory.id) for _, directory in hooks.values()}
        found = []
        for row in rows:
            hook, directory = hooks[row.webhook_id]
            event = {name: value for name, value in row.event.items() if name != "kind"}
            claims = {
                "iss": premises.issuer(directory.slug),
                "aud": hook.url,
                "iat": int(row.made_at.timestamp()),
                "jti": str(row.id),
                "sub_id": {"format": "opaque", "id": row.event["client_id"]},
                "events": {EVENT_PREFIX + row.event["kind"]: event},
            }
            found.append(_Taken(row, hook.url, kids[directory.id], claims))
        return found


def _kid(session: Session, directory_id: UUID) -> str:
    return signing_keys(session, directory_id)[0].kid


def _mark(premises: Premises, push_id: UUID, error: str) -> None:
    with observation(premises.engine) as session:
        # Gone with its webhook, perhaps.
        held = session.get(PushRow, push_id, with_for_update=True)
        if held is not None:
            notices.note_try(held, datetime.now(UTC), error)
            session.add(held)
