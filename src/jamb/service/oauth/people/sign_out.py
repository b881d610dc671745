"""Logout endpoint (OpenID Connect RP-Initiated Logout section 2): leads to the page that signs a person out.

Nothing ends by the request itself, which any page could make: the console's page does it with the person's own session,
and asks them first, unless the application shows an ID token of this very sign-in.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response

from jamb.actions.authorization import sealed, sign_outs
from jamb.service.oauth.errors import NO_STORE
from jamb.service.oauth.form import read_form
from jamb.service.oauth.people.openid import NotThisIssuers, claims_signed_here
from jamb.service.runtime import Runtime

PAGE = "/sign-out"
LONGEST_STATE = 2_000


async def sign_out(request: Request, slug: str) -> Response:
    """Answer a logout request, by GET or POST."""
    runtime: Runtime = request.app.state.runtime
    sent: Mapping[str, str] = request.query_params
    if request.method == "POST":
        sent = (await read_form(request)).values
    try:
        asked = await run_in_threadpool(_asked, runtime, slug, sent)
        text = sealed.sealed_sign_out(runtime.backend, asked)
    except (sign_outs.NotSentOn, NotThisIssuers) as error:
        words = str(error) or "The application shows an ID token that is none of this directory."
        text = sealed.sealed_no_sign_out(runtime.backend, words)
    return RedirectResponse(f"{runtime.backend.base_url}{PAGE}#{text}", 303, dict(NO_STORE))


def _asked(runtime: Runtime, slug: str, sent: Mapping[str, str]) -> sealed.SignOutAsked:
    hint, named = sent.get("id_token_hint", ""), sent.get("client_id", "")[:80]
    claims: Mapping[str, Any] = {}
    if hint:
        # Section 2: also one that has run out; its audience is the client.
        claims = claims_signed_here(runtime, slug, hint, frozenset({"JWT"}), verify_exp=False)
        if named and claims["aud"] != named:
            raise sign_outs.NotSentOn("The application shows an ID token of another one.")
    return sign_outs.find_sign_out(
        runtime.backend,
        slug,
        named or str(claims.get("aud", "")),
        sent.get("post_logout_redirect_uri", ""),
        sent.get("state", "")[:LONGEST_STATE],
        str(claims.get("sid", "")),
        runtime.clock.now(),
    )
