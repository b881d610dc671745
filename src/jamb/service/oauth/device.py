"""The device authorization grant (RFC 8628), so far for Jamb's own command line."""

from __future__ import annotations

from datetime import datetime

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.entry import devices
from jamb.core import own_api
from jamb.core.clients.attempts import Outcome
from jamb.core.errors import TooManyTries
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.catalogues import catalogue_of
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import Form
from jamb.service.oauth.mint import mint
from jamb.service.oauth.request import SUSPENDED
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime
from jamb.store.entry.tokens import DELEGATED, Delegated

GRANT_TYPE = "urn:ietf:params:oauth:grant-type:device_code"
_SAID = {
    devices.PollAnswer.PENDING: "The person has not decided yet.",
    devices.PollAnswer.SLOW_DOWN: "Wait five seconds longer between tries.",
    devices.PollAnswer.DENIED: "The person said no.",
    devices.PollAnswer.EXPIRED: "The code ran out; start again.",
    devices.PollAnswer.UNKNOWN: "No device waits with this code.",
}
_RECORDED = {
    devices.PollAnswer.DENIED: Outcome.DEVICE_DENIED,
    devices.PollAnswer.EXPIRED: Outcome.DEVICE_EXPIRED,
}


async def authorize_device(runtime: Runtime, slug: str, form: Form, address: str, now: datetime) -> Response:
    """Answer a device authorization request (RFC 8628 section 3.1 and 3.2)."""
    client_id = form.get("client_id")
    if client_id is None:
        raise OAuthError("invalid_request", "The parameter client_id is missing.")
    try:
        started = await run_in_threadpool(devices.start, runtime.backend, slug, client_id, address, now)
    except TooManyTries as error:
        # RFC 6585 section 4, in the words of RFC 6749 section 5.2.
        raise OAuthError(
            "temporarily_unavailable",
            f"{error.message} {error.next_step}",
            status=429,
            retry_after_seconds=error.retry_after_seconds or 1,
        ) from error
    if started is None:
        raise OAuthError("invalid_client", "This directory has no public client of that id that acts for people.")
    address = f"{runtime.backend.base_url}/device"
    return json_response(
        {
            "device_code": started.device_code,
            "user_code": started.user_code,
            "verification_uri": address,
            "verification_uri_complete": f"{address}#{started.user_code}",
            "expires_in": started.expires_in_seconds,
            "interval": started.interval_seconds,
        }
    )


async def device_token(request: Request, runtime: Runtime, slug: str, form: Form, now: datetime) -> Response:
    """Answer a polling device (RFC 8628 section 3.4 and 3.5)."""
    client_id, device_code = form.get("client_id"), form.get("device_code")
    if client_id is None or device_code is None:
        raise OAuthError("invalid_request", "The parameters client_id and device_code are both needed.")
    rows = await runtime.reader.rows(DELEGATED, {"slug": slug, "client": client_id, "name": own_api.NAME, "now": now})
    if not rows:
        raise OAuthError("invalid_client", "This directory has no public client of that id.")
    if Delegated(*rows[0]).suspended:
        raise OAuthError("unauthorized_client", SUSPENDED)
    poll = await run_in_threadpool(devices.poll, runtime.backend, slug, client_id, device_code, now)
    row = Delegated(*rows[0])
    address, agent = address_of(request), agent_of(request)
    if poll.answer is not devices.PollAnswer.GO:
        if poll.answer in _RECORDED:
            outcome = _RECORDED[poll.answer]
            failed = Attempt(
                row.directory_id, client_id, now, outcome, "", row.identifier, _SAID[poll.answer], address, agent
            )
            await runtime.recorder.record(failed)
        raise OAuthError(poll.answer.value, _SAID[poll.answer])
    catalogue = await catalogue_of(runtime, row.resource_id, row.revision)
    scope = frozenset().union(*(catalogue.closure(name.partition(" ")[0]) for name in row.granted))
    token, words = await mint(
        runtime.keyring,
        row.kid,
        issuer=runtime.backend.issuer(slug),
        audience=row.identifier,
        subject=str(poll.person_id),
        client_id=client_id,
        scope=scope,
        issued_at=int(now.timestamp()),
        seconds=row.seconds,
        sign_in=str(poll.sign_in_id),
    )
    issued = Attempt(row.directory_id, client_id, now, Outcome.ISSUED, "", row.identifier, words, address, agent)
    runtime.recorder.note(issued)
    return json_response({"access_token": token, "token_type": "Bearer", "expires_in": row.seconds, "scope": words})
