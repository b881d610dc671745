"""The probe: fetch a token as the integrator would, read it, call the resource, and explain how it went.

With the client's own secret the token endpoint is asked as anyone would, and only operations that read are called.
Without, a token of type probe+jwt is made: guards check everything with it and then do nothing, and nobody else takes
it for an access token (RFC 9068 section 4), so that even an operation that changes something may be probed.
"""

from __future__ import annotations

from dataclasses import dataclass

import httpx
from fastapi import FastAPI

from jamb.actions.resources.probes import ProbePlan
from jamb.core.errors import Unsuited
from jamb.core.text import visible
from jamb.service.egress import Heard, NotSpokenTo
from jamb.service.oauth.mint import PROBE_TYPE, mint
from jamb.service.runtime import Runtime
from jamb.wire.resources.probe import CallStep

PROBE_SECONDS = 60
AGENT = "jamb-probe"
# What a guard answers to a probe that it would have let in.
WOULD_BE_LET_IN = 204
_SHOWN = 300
# Of an answer, to find the words of a refusal in.
LONGEST_ANSWER = 16_384


@dataclass(frozen=True, slots=True)
class Fetched:
    """A token, or why there is none. `way`: how it was fetched."""

    way: str
    token: str = ""
    error: str = ""


async def fetch(app: FastAPI, runtime: Runtime, slug: str, plan: ProbePlan, secret: str | None) -> Fetched:
    """Fetch a token with the client's secret, or make one for the probe alone.

    Raises:
        Unsuited: the operation changes something, and the secret would really do it.
    """
    if secret is None:
        return await _made(runtime, slug, plan)
    if not plan.reads:
        raise Unsuited.field(
            "operation",
            f"{plan.method} {plan.path}",
            "one that only reads, with the client's own secret",
            "Leave the secret out: then everything is checked and nothing is done.",
        )
    form = {
        "grant_type": "client_credentials",
        "client_id": plan.client_id,
        "client_secret": secret,
        "resource": plan.audience,
    }
    # The same endpoint that everybody asks, within this process: its record tells of the probe.
    transport = httpx.ASGITransport(app=app, client=("probe", 0))
    async with httpx.AsyncClient(transport=transport, base_url=runtime.backend.base_url) as http:
        answer = await http.post(f"/d/{slug}/token", data=form, headers={"User-Agent": AGENT})
    body = answer.json()
    if answer.is_success:
        return Fetched("by the secret, at the token endpoint", body["access_token"])
    return Fetched(
        "by the secret, at the token endpoint", error=f"{body.get('error', '')}: {body.get('error_description', '')}"
    )


async def _made(runtime: Runtime, slug: str, plan: ProbePlan) -> Fetched:
    way = "a token that serves this probe alone"
    if plan.person:
        way = f"{way}, for {plan.person}"
    if plan.hindered:
        return Fetched(way, error=plan.hindered)
    token, _ = await mint(
        runtime.keyring,
        plan.kid,
        issuer=runtime.backend.issuer(slug),
        audience=plan.audience,
        subject=plan.subject,
        client_id=plan.client_id,
        scope=plan.scope,
        issued_at=plan.issued_at,
        seconds=PROBE_SECONDS,
        bounds=plan.bounds,
        kind=PROBE_TYPE,
    )
    return Fetched(way, token)


async def call(runtime: Runtime, plan: ProbePlan, fetched: Fetched, real: bool) -> CallStep | None:
    """Call the resource with a token; None where there is nothing to call with, or nowhere."""
    if not fetched.token or not plan.address:
        return None
    url, status, said = plan.address + plan.path, 0, ""
    try:
        heard = await runtime.egress.ask(
            plan.method,
            url,
            seconds=runtime.settings.probe_seconds,
            max_bytes=LONGEST_ANSWER,
            headers={"Authorization": f"Bearer {fetched.token}", "User-Agent": AGENT},
        )
    except NotSpokenTo as error:
        words = f"It was called in vain: {error}."
    else:
        status, said, words = heard.status, _said(heard), _words(heard, real)
    return CallStep(method=plan.method, url=url, status=status, said=said, words=words)


def _said(answer: Heard) -> str:
    """Return a refusal in the resource's words. Of an answer that worked nothing is shown: it is not ours to read."""
    if answer.is_success:
        return ""
    challenge: str = answer.headers.get("WWW-Authenticate", "")
    return visible((challenge or answer.body.decode(errors="replace"))[:_SHOWN])


def _words(answer: Heard, real: bool) -> str:
    status = answer.status
    if not real and status == WOULD_BE_LET_IN:
        return "It would be let in; nothing was done."
    if not real and answer.is_success:
        return "It answered as if to an access token: its guard does not know probes."
    known = {
        401: "It does not take the token.",
        403: "It takes the token, and does not allow this.",
        404: "It was let in, but this is not there.",
        503: "It cannot judge the token yet.",
    }
    return "It worked." if answer.is_success else known.get(status, f"It answered {status}.")
