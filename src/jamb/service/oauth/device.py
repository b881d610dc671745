"""The device authorization grant (RFC 8628), for devices that act for people, and for Jamb's own command line."""

from __future__ import annotations

from datetime import datetime

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.authorization import devices
from jamb.actions.authorization.person_tokens import Allowed, NotRedeemed, of_device
from jamb.actions.authorization.requested import find_resource_wanted
from jamb.actions.base.backend import command_line_client_id
from jamb.core import own_api
from jamb.core.authorization.refused import RequestRefused
from jamb.core.authorization.requests import Wanted, read_device_request
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import GrantType
from jamb.core.errors import TooManyTries
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.authenticate import authenticated
from jamb.service.oauth.catalogues import catalogue_of
from jamb.service.oauth.errors import OAuthError, json_response, too_many
from jamb.service.oauth.form import Form, read_proof
from jamb.service.oauth.mint import mint
from jamb.service.oauth.people.tokens import answer_with_tokens, looked_at
from jamb.service.oauth.request import SUSPENDED, TokenRequest
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime
from jamb.store.entry.tokens import DELEGATED, Delegated

GRANT_TYPE = "urn:ietf:params:oauth:grant-type:device_code"
_NO_CLIENT = "This directory has no public client of that id that acts for people."
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
    wanted = await _wanted(runtime, slug, client_id, form)
    try:
        started = await run_in_threadpool(devices.start, runtime.backend, slug, client_id, address, now, wanted)
    except TooManyTries as error:
        raise too_many(error) from error
    if started is None:
        raise OAuthError("invalid_client", _NO_CLIENT)
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


async def _wanted(runtime: Runtime, slug: str, client_id: str, form: Form) -> Wanted | None:
    """Return what a device asks for (RFC 8628 section 3.1); None for the command line, a part of Jamb itself."""
    if client_id == command_line_client_id(slug):
        return None
    if not await run_in_threadpool(devices.may_ask, runtime.backend, slug, client_id):
        # Before what it asks is looked at: which clients there are is nobody's to find out here.
        raise OAuthError("invalid_client", _NO_CLIENT)
    try:
        wanted = read_device_request(form.values, form.resources)
        return await run_in_threadpool(find_resource_wanted, runtime.backend, slug, client_id, wanted)
    except RequestRefused as error:
        raise OAuthError(error.error, error.description) from error


async def device_token(request: Request, runtime: Runtime, slug: str, form: Form, now: datetime) -> Response:
    """Answer a polling device (RFC 8628 section 3.4 and 3.5)."""
    client_id, device_code = form.get("client_id"), form.get("device_code")
    if client_id is None or device_code is None:
        raise OAuthError("invalid_request", "The parameters client_id and device_code are both needed.")
    if client_id != command_line_client_id(slug):
        return await _tokens_of_device(request, runtime, slug, form, device_code, now)
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


async def _tokens_of_device(
    request: Request, runtime: Runtime, slug: str, form: Form, device_code: str, now: datetime
) -> Response:
    asked = TokenRequest.of(request, runtime, slug, read_proof(request, form), now)
    client_id = asked.proof.client_id

    def polled() -> Allowed:
        poll = devices.poll(runtime.backend, slug, client_id, device_code, now)
        if poll.answer in _RECORDED:
            raise NotRedeemed(_RECORDED[poll.answer], _SAID[poll.answer], poll.answer.value)
        if poll.answer is not devices.PollAnswer.GO or poll.authorization_id is None:
            raise OAuthError(poll.answer.value, _SAID[poll.answer])
        return of_device(runtime.backend, slug, poll.authorization_id, asked.key, now)

    row = await authenticated(asked, GrantType.DEVICE_CODE)
    await asked.judge_possession()
    return await answer_with_tokens(asked, row, await looked_at(asked, polled))
