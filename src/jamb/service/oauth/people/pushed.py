"""A client pushes what it will ask of a person, and gets an address for it (RFC 9126).

So nothing of it passes through the browser, and a client that can prove itself has done so before anybody is asked.
"""

from __future__ import annotations

from datetime import datetime

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.authorization import requested, sealed
from jamb.core.authorization.refused import RequestRefused
from jamb.core.authorization.requests import read_request
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import GrantType
from jamb.service.oauth.authenticate import authenticated
from jamb.service.oauth.errors import json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.people.openid import for_hinted
from jamb.service.oauth.people.signed import read_signed
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime


async def push(
    request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof, now: datetime
) -> Response:
    """Answer with the address of what is asked (section 2.2)."""
    asked = TokenRequest.of(request, runtime, slug, proof, now)
    await authenticated(asked, GrantType.AUTHORIZATION_CODE)
    await asked.judge_possession()
    sent, listed = dict(form.values), list(form.resources)
    try:
        if "request_uri" in sent:
            # Section 2.1.
            raise RequestRefused("invalid_request", "The parameter request_uri cannot be pushed.")
        if sent.get("request"):
            sent, listed = await read_signed(request, runtime, slug, proof.client_id, sent["request"], now)
        # RFC 9449 section 10.1: as if it had sent the thumbprint of the key that it shows to hold.
        if asked.key and sent.setdefault("dpop_jkt", asked.key) != asked.key:
            raise RequestRefused("invalid_request", "The dpop_jkt is another key than that of the DPoP proof.")
        there = await run_in_threadpool(
            requested.answerable, runtime.backend, slug, proof.client_id, sent.get("redirect_uri", "")
        )
        wanted = read_request(sent, listed, there.redirect_uri)
        wanted = await run_in_threadpool(for_hinted, runtime, slug, proof.client_id, wanted, sent)
        wanted = await run_in_threadpool(requested.find_resource_wanted, runtime.backend, slug, proof.client_id, wanted)
    except RequestRefused as error:
        detail = f"{error.error}: {error.description}"
        raise await asked.refuse(error.outcome, error.error, error.description, detail) from error
    except requested.NotToBeAnswered as error:
        described = "The redirect_uri is not registered for this client."
        raise await asked.refuse(Outcome.NOT_ANSWERED, "invalid_request", described, error.detail) from error
    uri = sealed.pushed_uri(runtime.backend, sealed.Asked(slug, proof.client_id, wanted, now))
    seconds = int(sealed.PUSHED_LIFE.total_seconds())
    return json_response({"request_uri": uri, "expires_in": seconds}, 201)
