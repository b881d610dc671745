"""Authorization endpoint (RFC 6749 section 3.1): reads what a client asks of a person, and leads to the page that asks.

1. the client, and an address that is its own: else nobody is sent anywhere, and the page says why
2. all else that is wrong is told to the client at that address (section 4.1.2.1)
3. what is asked goes to the page behind its #, sealed: nothing is kept, and no log has it
"""

from __future__ import annotations

from collections.abc import Mapping
from datetime import datetime
from urllib.parse import parse_qsl

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response

from jamb.actions.entry import authorizations
from jamb.core.authorization.requests import RequestRefused, read_request
from jamb.core.clients.attempts import Outcome
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.errors import NO_STORE
from jamb.service.oauth.form import read_form
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime

PAGE = "/allow"
MOST_PARAMETERS = 40


async def authorize(request: Request, slug: str) -> Response:
    """Answer an authorization request, by GET or POST (OpenID Connect Core section 3.1.2.1)."""
    runtime: Runtime = request.app.state.runtime
    now = runtime.clock.now()
    sent, fault, listed = await _parameters(request)
    asking = _Asking(request, runtime, slug, now, sent.get("client_id", ""), listed)
    try:
        there = await run_in_threadpool(
            authorizations.answerable, runtime.backend, slug, asking.client_id, sent.get("redirect_uri", "")
        )
    except authorizations.NotToBeAnswered as error:
        if error.directory_id is not None:
            await asking.record(error.directory_id, Outcome.NOT_ANSWERED, error.detail or error.words)
        return _to_page(runtime, authorizations.seal(runtime.backend, {"refused": error.words}))
    try:
        if fault:
            raise RequestRefused("invalid_request", fault)
        wanted = read_request(sent, listed, there.redirect_uri)
        wanted = await run_in_threadpool(
            authorizations.find_resource_wanted, runtime.backend, slug, there.client_id, wanted
        )
    except RequestRefused as error:
        await asking.record(there.directory_id, Outcome.REQUEST_REFUSED, f"{error.error}: {error.description}")
        address = authorizations.error_answer(
            runtime.backend, slug, there.redirect_uri, sent.get("state", ""), error.error, error.description
        )
        return RedirectResponse(address, 303, dict(NO_STORE))
    asked = authorizations.Asked(slug, there.client_id, wanted, now)
    return _to_page(runtime, authorizations.sealed_request(runtime.backend, asked))


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


async def _parameters(request: Request) -> tuple[Mapping[str, str], str, list[str]]:
    """Return the parameters, what is wrong with them, and the resources (RFC 8707), which may repeat.

    What is wrong is told to the client where it can be: so the others are read all the same. Their text was judged
    before (`http.middleware`).
    """
    if request.method == "POST":
        form = await read_form(request)
        return form.values, "", list(form.resources)
    sent: dict[str, str] = {}
    fault, resources = "", []
    query = request.scope["query_string"].decode("ascii", errors="replace")
    pairs = parse_qsl(query, keep_blank_values=True, errors="replace")
    if len(pairs) > MOST_PARAMETERS:
        fault = f"More than {MOST_PARAMETERS} parameters are sent."
    for name, value in pairs[:MOST_PARAMETERS]:
        if name == "resource":
            resources += [value] if value else []
        elif name in sent:
            fault = f"The parameter {name[:40]} is sent twice."
        else:
            sent[name] = value
    return sent, fault, resources


def _to_page(runtime: Runtime, sealed: str) -> Response:
    return RedirectResponse(f"{runtime.backend.base_url}{PAGE}#{sealed}", 303, dict(NO_STORE))
