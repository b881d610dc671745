"""Events for webhooks: security event tokens (RFC 8417), signed with the directory's key, pushed by POST (RFC 8935).

A receiver verifies them with the keys of the directory's metadata, so that there is no secret to share, and drops a
`jti` that it has seen. What it does not take is tried again, later and later, and at last kept until someone looks.
"""

from __future__ import annotations

import asyncio
import time
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

import jwt
import structlog
from sqlmodel import Session
from starlette.concurrency import run_in_threadpool

from jamb.actions.base.backend import Backend
from jamb.actions.base.duties import said_of
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.service.egress import NotSpokenTo
from jamb.service.runtime import Runtime
from jamb.store.base.work import observation
from jamb.store.directory.directories import signing_key
from jamb.store.notices import notices
from jamb.store.notices.notices import PushRow

# Of one webhook in one go; the next round takes the next.
AT_ONCE = 1000
ROUND_SECONDS = 50.0
SIDE_BY_SIDE = 8
LONGEST_ANSWER = 16_384
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
    def __init__(self, runtime: Runtime) -> None:
        self._keyring, self._egress, self._seconds = runtime.keyring, runtime.egress, runtime.settings.push_seconds

    async def push(self, taken: _Taken) -> str:
        """Send one event; return why it was not taken, or nothing. Raises `NotSpokenTo` where nobody answers."""
        key = await run_in_threadpool(self._keyring.private, taken.kid)
        token = jwt.encode(taken.claims, key, "ES256", {"kid": taken.kid, "typ": "secevent+jwt"})
        heard = await self._egress.ask(
            "POST",
            taken.url,
            seconds=self._seconds,
            max_bytes=LONGEST_ANSWER,
            content=token,
            headers={"Content-Type": MEDIA_TYPE, "Accept": "application/json"},
        )
        return "" if heard.is_success else f"it answered {heard.status}"


async def send_pushes(backend: Backend, pusher: Pusher) -> int:
    """Push the events that are due; return how many were tried.

    Each webhook by itself, several at a time, one event after the other: what is slow or refuses holds up nobody else.
    """
    hooks = await run_in_threadpool(_due, backend)
    side_by_side = asyncio.Semaphore(SIDE_BY_SIDE)

    async def serve(webhook_id: UUID) -> int:
        async with side_by_side:
            return await _serve(backend, pusher, webhook_id)

    served = await asyncio.gather(*(serve(one) for one in hooks), return_exceptions=True)
    for webhook_id, found in zip(hooks, served, strict=True):
        if isinstance(found, BaseException):
            _log.error("a webhook could not be served", webhook=str(webhook_id), exc_info=found)
    return sum(found for found in served if isinstance(found, int))


async def _serve(backend: Backend, pusher: Pusher, webhook_id: UUID) -> int:
    """Push what is due for one webhook, as long as somebody answers there."""
    ends = time.monotonic() + ROUND_SECONDS
    for tried in range(AT_ONCE):
        if time.monotonic() > ends:
            return tried
        taken = await run_in_threadpool(_take, backend, webhook_id)
        if taken is None:
            return tried
        answers = True
        try:
            error = await pusher.push(taken)
        except NotSpokenTo as away:
            error, answers = str(away), False
        except Exception as fault:  # noqa: BLE001 - it is put aside, and the others go
            _log.exception("an event cannot be pushed", webhook=str(webhook_id))
            error = said_of(fault)
        await run_in_threadpool(_mark, backend, taken.row.id, error)
        if error:
            _log.warning("a webhook did not take an event", webhook=str(webhook_id), error=error)
        if not answers:
            return tried + 1
    return AT_ONCE


def _due(backend: Backend) -> list[UUID]:
    with Session(backend.engine) as session:
        return notices.webhooks_to_push(session, datetime.now(UTC))


def _take(backend: Backend, webhook_id: UUID) -> _Taken | None:
    now = datetime.now(UTC)
    with observation(backend.engine) as session:
        row = notices.claim_push(session, webhook_id, now)
        found = notices.webhook_with_directory(session, webhook_id)
        if row is None or found is None:
            return None
        hook, directory = found
        event = {name: value for name, value in row.event.items() if name != "kind"}
        claims = {
            "iss": backend.issuer(directory.slug),
            "aud": hook.url,
            "iat": int(row.made_at.timestamp()),
            "jti": str(row.id),
            "sub_id": {"format": "opaque", "id": row.event["client_id"]},
            "events": {EVENT_PREFIX + row.event["kind"]: event},
        }
        return _Taken(row, hook.url, _kid(session, directory.id), claims)


def _kid(session: Session, directory_id: UUID) -> str:
    return signing_key(session, directory_id, SigningAlgorithm.ES256, datetime.now(UTC)).kid


def _mark(backend: Backend, push_id: UUID, error: str) -> None:
    with observation(backend.engine) as session:
        # Gone with its webhook, perhaps.
        held = session.get(PushRow, push_id, with_for_update=True)
        if held is not None:
            notices.note_try(held, datetime.now(UTC), error)
            session.add(held)
