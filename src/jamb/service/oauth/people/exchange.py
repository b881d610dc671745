"""Token endpoint for an API that calls another API for the same person (RFC 8693 section 2)."""

from __future__ import annotations

from datetime import datetime

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.authorization.exchanges import Exchanged, exchange
from jamb.actions.authorization.person_tokens import NotRedeemed
from jamb.core.authorization.client_and_person import bounds_of
from jamb.core.authorization.exchange import ACCESS_TOKEN, ExchangeAsked, acting, read_exchange
from jamb.core.authorization.refused import RequestRefused
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import GrantType
from jamb.core.tokens import issue_second
from jamb.service.oauth.authenticate import authenticated
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.mint import mint
from jamb.service.oauth.people.openid import NotThisIssuers, claims_of_own
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime


async def token_exchange(
    request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof, now: datetime
) -> Response:
    """Exchange a token that was sent to a client's resource for one by which it calls another."""
    try:
        wanted = read_exchange(form.values, form.resources)
    except RequestRefused as error:
        raise OAuthError(error.error, error.description) from error
    asked = TokenRequest.of(request, runtime, slug, proof, now)
    row = await authenticated(asked, GrantType.TOKEN_EXCHANGE)
    await asked.judge_possession()
    try:
        found = await run_in_threadpool(_exchanged, asked, wanted)
    except NotRedeemed as error:
        raise await asked.refuse(error.outcome, error.error, error.described, error.detail) from error
    await asked.use_possession()
    asked.resource = found.identifier
    moments = [moment for moment in (row.narrowed_at, found.narrowed_at) if moment is not None]
    token, words = await mint(
        runtime.keyring,
        row.kid,
        issuer=runtime.backend.issuer(slug),
        audience=found.identifier,
        subject=str(found.person_id),
        client_id=proof.client_id,
        scope=found.counts,
        issued_at=issue_second(now, max(moments, default=None)),
        seconds=found.seconds,
        sign_in=str(found.authorization_id),
        bounds=bounds_of(found.identifier, found.counts),
        confirmation=asked.confirmation,
        by_way_of=acting(found.ways),
    )
    runtime.recorder.note(asked.attempt(Outcome.ISSUED, words, asked.credential_id))
    # Section 2.2.1.
    return json_response({**asked.answer(token, words, found.seconds), "issued_token_type": ACCESS_TOKEN})


def _exchanged(asked: TokenRequest, wanted: ExchangeAsked) -> Exchanged:
    try:
        claims = claims_of_own(asked.runtime, asked.slug, wanted.subject_token)
    except NotThisIssuers as error:
        described = "The subject_token is no access token of this issuer, or has run out."
        raise NotRedeemed(Outcome.SUBJECT_TOKEN, described, "invalid_request") from error
    return exchange(asked.runtime.backend, asked.slug, asked.proof.client_id, wanted, claims, asked.now)
