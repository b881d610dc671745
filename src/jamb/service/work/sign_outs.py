"""Applications hear that their person signed out (OpenID Connect Back-Channel Logout section 2).

Within seconds, by whichever process takes the notice; what does not answer is told again a few times, and then the
client's owner reads it among the client's failures.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from urllib.parse import urlencode
from uuid import UUID

import structlog
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session
from starlette.concurrency import run_in_threadpool

from jamb.core.clients.attempts import Outcome
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.errors import WorldFailure
from jamb.service.egress import NotSpokenTo
from jamb.service.oauth.mint import sign
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime
from jamb.store.base.work import observation
from jamb.store.connections.outages import reason_of
from jamb.store.directory.directories import signing_key
from jamb.store.entry import sign_outs as store

LOOK_SECONDS = 2.0
AT_ONCE = 50
SIDE_BY_SIDE = 8
# Section 2.4: short-lived, two minutes at most.
TOKEN_SECONDS = 120
EVENT = "http://schemas.openid.net/event/backchannel-logout"
# When it is told again; after the last it is given up.
PAUSES = (timedelta(seconds=10), timedelta(minutes=1), timedelta(minutes=5), timedelta(minutes=30))
LONGEST_ANSWER = 4096
_log = structlog.get_logger("jamb.sign_outs")


@dataclass(frozen=True, slots=True)
class _Taken:
    notice: store.SignOutNoticeRow
    address: str
    slug: str
    kid: str


async def telling(runtime: Runtime) -> None:
    """Tell what is due, for ever. While the database is away it is tried again."""
    while True:
        try:
            while await tell_due(runtime) == AT_ONCE:
                pass
        except (SQLAlchemyError, WorldFailure) as error:
            _log.warning("sign-outs are not told now, will try again", **reason_of(error))
        await asyncio.sleep(LOOK_SECONDS)


async def tell_due(runtime: Runtime) -> int:
    """Tell the clients of the notices that are due; return how many there were."""
    taken = await run_in_threadpool(_take, runtime)
    side_by_side = asyncio.Semaphore(SIDE_BY_SIDE)

    async def serve(one: _Taken) -> None:
        async with side_by_side:
            await _tell(runtime, one)

    served = await asyncio.gather(*(serve(one) for one in taken), return_exceptions=True)
    for one, fault in zip(taken, served, strict=True):
        # It is taken again a little later; the others were told.
        if isinstance(fault, BaseException):
            _log.error("a sign-out could not be told", client=one.notice.client_id, exc_info=fault)
    return len(taken)


def _take(runtime: Runtime) -> Sequence[_Taken]:
    now = runtime.clock.now()
    with Session(runtime.work.engine) as session:
        # Looked at every other second by every process: mostly there is nothing, and nothing is to be committed.
        if not store.any_due(session, now):
            return []
    with observation(runtime.work.engine) as session:
        rows = store.take_due(session, now, AT_ONCE)
        by = SigningAlgorithm.RS256
        kids = {row.directory_id: signing_key(session, row.directory_id, by, now).kid for row, _, _ in rows}
        return [_Taken(row, address, slug, kids[row.directory_id]) for row, address, slug in rows]


async def _tell(runtime: Runtime, taken: _Taken) -> None:
    now, notice = runtime.clock.now(), taken.notice
    error = await _said(runtime, taken, now) if taken.address else ""
    if error and notice.tries < len(PAUSES):
        await run_in_threadpool(_put_off, runtime, notice.id, error, now + PAUSES[notice.tries])
        return
    if error:
        _log.warning("an application did not hear that somebody signed out", client=notice.client_id, error=error)
        unheard = Outcome.SIGN_OUT_UNHEARD
        await runtime.recorder.record(
            Attempt(notice.directory_id, notice.client_id, now, unheard, "", "", error[:500], "", "")
        )
    await run_in_threadpool(_told, runtime, notice.id)


async def _said(runtime: Runtime, taken: _Taken, now: datetime) -> str:
    """Send the logout token (sections 2.4 and 2.5); return why it was not taken, or nothing."""
    issued_at = int(now.timestamp())
    claims = {
        "iss": runtime.backend.issuer(taken.slug),
        "aud": taken.notice.client_id,
        "sub": str(taken.notice.person_id),
        "sid": str(taken.notice.authorization_id),
        "iat": issued_at,
        "exp": issued_at + TOKEN_SECONDS,
        "jti": str(taken.notice.id),
        "events": {EVENT: {}},
    }
    token = await sign(runtime.keyring, taken.kid, "logout+jwt", claims)
    try:
        heard = await runtime.egress.ask(
            "POST",
            taken.address,
            seconds=runtime.settings.push_seconds,
            max_bytes=LONGEST_ANSWER,
            content=urlencode({"logout_token": token}),
            headers={"Content-Type": "application/x-www-form-urlencoded"},
        )
    except NotSpokenTo as away:
        return str(away)
    return "" if heard.is_success else f"it answered {heard.status}"


def _put_off(runtime: Runtime, notice_id: UUID, error: str, until: datetime) -> None:
    with observation(runtime.work.engine) as session:
        store.put_off(session, notice_id, error, until)


def _told(runtime: Runtime, notice_id: UUID) -> None:
    with observation(runtime.work.engine) as session:
        store.told(session, notice_id)
