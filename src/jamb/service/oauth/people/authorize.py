"""Authorization endpoint (RFC 6749 section 3.1): reads what a client asks of a person, and leads to the page that asks.

1. what is asked: in the address, in a form, signed (RFC 9101), or pushed before (RFC 9126)
2. the client, and an address that is its own: else nobody is sent anywhere, and the page says why
3. all else that is wrong is told to the client at that address (section 4.1.2.1)
4. what is asked goes to the page behind its #, sealed: nothing is kept, and no log has it
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from urllib.parse import parse_qsl

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response

from jamb.actions.authorization import requested, sealed
from jamb.actions.authorization.responses import error_answer
from jamb.core.addresses import without_root
from jamb.core.authorization.refused import RequestRefused
from jamb.core.authorization.requests import mode_of, read_request
from jamb.core.clients.attempts import Outcome
from jamb.core.errors import BadInput
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.errors import NO_STORE
from jamb.service.oauth.form import read_form
from jamb.service.oauth.people.form_post import posting_page
from jamb.service.oauth.people.openid import for_hinted
from jamb.service.oauth.people.signed import read_signed
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime

PAGE = "/allow"
MOST_PARAMETERS = 40


async def authorize(request: Request, slug: str) -> Response:
    """Answer an authorization request, by GET or POST (OpenID Connect Core section 3.1.2.1)."""
    runtime: Runtime = request.app.state.runtime
    now = runtime.clock.now()
    sent, fault, listed = await _parameters(request)
    client_id = sent.get("client_id", "")
    asking = _Asking(request, runtime, slug, now, client_id, listed)
    pushed: sealed.Asked | None = None
    try:
        if sent.get("request_uri", "").startswith(sealed.PUSHED):
            pushed = _pushed(runtime, slug, sent, now)
        elif sent.get("request") and not fault:
            try:
                sent, listed = await read_signed(request, runtime, slug, client_id, sent["request"], now)
            except RequestRefused as error:
                fault = error
        there = await run_in_threadpool(
            requested.answerable,
            runtime.backend,
            slug,
            client_id,
            pushed.wanted.redirect_uri if pushed is not None else sent.get("redirect_uri", ""),
        )
    except requested.NotToBeAnswered as error:
        if error.directory_id is not None:
            await asking.record(error.directory_id, Outcome.NOT_ANSWERED, error.detail or error.words)
        return _to_page(runtime, sealed.sealed_refusal(runtime.backend, error.words))
    if pushed is not None:
        # It was found good when it was pushed; the page looks at the client anew.
        return _to_page(runtime, sealed.sealed_request(runtime.backend, replace(pushed, at=now)))
    try:
        if fault:
            raise fault
        wanted = read_request(sent, listed, there.redirect_uri)
        wanted = await run_in_threadpool(for_hinted, runtime, slug, there.client_id, wanted, sent)
        wanted = await run_in_threadpool(requested.find_resource_wanted, runtime.backend, slug, there.client_id, wanted)
    except RequestRefused as error:
        await asking.record(there.directory_id, error.outcome, f"{error.error}: {error.description}")
        state, mode = sent.get("state", ""), mode_of(sent)
        answer = error_answer(runtime.backend, slug, there.redirect_uri, state, mode, error.error, error.description)
        if answer.by_form:
            return posting_page(answer.redirect_uri, answer.members)
        return RedirectResponse(answer.address, 303, dict(NO_STORE))
    asked = sealed.Asked(slug, there.client_id, wanted, now)
    return _to_page(runtime, sealed.sealed_request(runtime.backend, asked))


def _pushed(runtime: Runtime, slug: str, sent: Mapping[str, str], now: datetime) -> sealed.Asked:
    """Return what was pushed under an address (RFC 9126 section 4), by the client that brings it."""
    try:
        asked = sealed.opened_pushed(runtime.backend, sent["request_uri"], now)
    except BadInput as error:
        words = "What the application asked is not known here any more. Start again at the application."
        raise requested.NotToBeAnswered(words) from error
    if (asked.directory, asked.client_id) != (slug, sent.get("client_id")):
        raise requested.NotToBeAnswered("The application brings what another one asked.")
    return asked


class _Asking:
    """Who asks, for the record of what was refused."""

    def __init__(
        self, request: Request, runtime: Runtime, slug: str, now: datetime, client_id: str, resources: list[str]
    ) -> None:
        self._request, self._runtime, self._slug, self._now = request, runtime, slug, now
        self._resource = resources[0] if resources else ""
        self.client_id = client_id

    async def record(self, directory_id: object, outcome: Outcome, detail: str) -> None:
        await self._runtime.recorder.record(
            Attempt(
                directory_id,  # type: ignore[arg-type]
                self.client_id[:80],
                self._now,
                outcome,
                "",
                self._resource[:300],
                detail[:500],
                address_of(self._request),
                agent_of(self._request),
            )
        )


async def _parameters(request: Request) -> tuple[Mapping[str, str], RequestRefused | None, list[str]]:
    """Return the parameters, what is wrong with them, and the resources (RFC 8707), which may repeat.

    What is wrong is told to the client where it can be: so the others are read all the same. Their text was judged
    before (`http.middleware`).
    """
    if request.method == "POST":
        form = await read_form(request)
        return form.values, None, list(form.resources)
    sent: dict[str, str] = {}
    fault: RequestRefused | None = None
    resources: list[str] = []
    query = request.scope["query_string"].decode("ascii", errors="replace")
    pairs = parse_qsl(query, keep_blank_values=True, errors="replace")
    if len(pairs) > MOST_PARAMETERS:
        fault = RequestRefused("invalid_request", f"More than {MOST_PARAMETERS} parameters are sent.")
    for name, value in pairs[:MOST_PARAMETERS]:
        if name == "resource":
            resources += [without_root(value)] if value else []
        elif name in sent:
            fault = RequestRefused("invalid_request", f"The parameter {name[:40]} is sent twice.")
        else:
            sent[name] = value
    return sent, fault, resources


def _to_page(runtime: Runtime, sealed: str) -> Response:
    return RedirectResponse(f"{runtime.backend.base_url}{PAGE}#{sealed}", 303, dict(NO_STORE))
