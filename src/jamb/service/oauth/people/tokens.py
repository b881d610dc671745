"""Token endpoint for clients that act for people: codes (RFC 6749 section 4.1.3) and refresh tokens (section 6)."""

from __future__ import annotations

import base64
import hashlib
from collections.abc import Callable
from datetime import datetime
from typing import Any

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.authorization import person_tokens
from jamb.actions.authorization.person_tokens import Allowed, NotRedeemed
from jamb.core.authorization.acr import acr_of, amr_of
from jamb.core.authorization.client_and_person import bounds_of
from jamb.core.authorization.requests import OPENID
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import GrantType
from jamb.core.errors import TooManyTries
from jamb.core.tokens import issue_second
from jamb.guard.dpop import BadProof
from jamb.service.oauth.authenticate import authenticated
from jamb.service.oauth.errors import OAuthError, json_response, too_many
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.mint import mint, sign_for_client
from jamb.service.oauth.people import redeem
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime
from jamb.store.entry.tokens import Authenticated

ID_TOKEN_SECONDS = 600


async def authorization_code(
    request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof, now: datetime
) -> Response:
    """Redeem a code."""
    code, verifier = form.get("code"), form.get("code_verifier")
    if code is None or verifier is None:
        raise OAuthError("invalid_request", "The parameters code and code_verifier are both needed.")
    asked = TokenRequest.of(request, runtime, slug, proof, now)
    row = await authenticated(asked, GrantType.AUTHORIZATION_CODE)
    await asked.judge_possession()
    redirect_uri = form.get("redirect_uri")
    allowed = await redeem.redeemed(asked, row, code, verifier, redirect_uri) or await looked_at(
        asked,
        lambda: person_tokens.redeem(
            runtime.backend, slug, proof.client_id, code, verifier, redirect_uri, asked.key, now
        ),
    )
    return await answer_with_tokens(asked, row, allowed)


async def refresh_token(
    request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof, now: datetime
) -> Response:
    """Fetch fresh tokens. The refresh token that comes with them takes the place of the one that was sent."""
    token, scope = form.get("refresh_token"), form.get("scope")
    if token is None:
        raise OAuthError("invalid_request", "The parameter refresh_token is missing.")
    if len(form.resources) > 1:
        raise OAuthError("invalid_target", "Name one resource: a token is for one.")
    asked = TokenRequest.of(request, runtime, slug, proof, now)
    names = frozenset(scope.split()) if scope else None
    brought = redeem.Refresh(token, names, form.resources[0] if form.resources else None)
    # Where it can be done, client and token are judged at once; a key has to be tried before.
    done = None
    if not proof.by_key and not isinstance(asked.possession, BadProof):
        done = await redeem.refreshed(asked, brought, proven=False)
    row = await authenticated(asked, GrantType.REFRESH_TOKEN, done.client if done is not None else None)
    await asked.judge_possession()
    if done is None:
        done = await redeem.refreshed(asked, brought, proven=True)
    allowed = done.allowed or await looked_at(
        asked,
        lambda: person_tokens.refresh(
            runtime.backend, slug, proof.client_id, token, names, brought.resource, asked.key, now
        ),
    )
    return await answer_with_tokens(asked, row, allowed)


async def looked_at(asked: TokenRequest, work: Callable[[], Allowed]) -> Allowed:
    """Return what a client gets tokens for by looking at all of it, or say and record why it gets none."""
    try:
        return await run_in_threadpool(work)
    except NotRedeemed as error:
        raise await asked.refuse(error.outcome, error.error, error.described, error.detail) from error
    except TooManyTries as error:
        raise too_many(error) from error


async def answer_with_tokens(asked: TokenRequest, row: Authenticated, allowed: Allowed) -> Response:
    """Return the tokens for what is allowed, to a client that proved itself."""
    await asked.use_possession()
    asked.resource = allowed.identifier
    token, words = await _access_token(asked, row, allowed)
    answer = asked.answer(token, words, row.seconds)
    bounds = bounds_of(allowed.identifier, allowed.counts)
    if bounds is not None:
        # RFC 9396 section 7.
        answer["authorization_details"] = bounds
    if allowed.refresh:
        answer["refresh_token"] = allowed.refresh
    # Once, at the sign-in that it tells of (OpenID Connect Core section 12.2); userinfo says how it is now.
    if OPENID in allowed.about and asked.grant_type != GrantType.REFRESH_TOKEN:
        answer["id_token"] = await _id_token(asked, row, allowed, token)
    asked.runtime.recorder.note(asked.attempt(Outcome.ISSUED, words, asked.credential_id))
    return json_response(answer)


async def _access_token(asked: TokenRequest, row: Authenticated, allowed: Allowed) -> tuple[str, str]:
    """Return an access token (RFC 9068) with what client and person both may do, where both may (RFC 9396)."""
    moments = [moment for moment in (row.narrowed_at, allowed.narrowed_at) if moment is not None]
    return await mint(
        asked.runtime.keyring,
        row.kid,
        issuer=asked.runtime.backend.issuer(asked.slug),
        audience=allowed.identifier,
        subject=str(allowed.person_id),
        client_id=asked.proof.client_id,
        scope=allowed.counts.keys() | allowed.about,
        issued_at=issue_second(asked.now, max(moments, default=None)),
        seconds=row.seconds,
        sign_in=str(allowed.id),
        bounds=bounds_of(allowed.identifier, allowed.counts),
        confirmation=asked.confirmation,
    )


async def _id_token(asked: TokenRequest, row: Authenticated, allowed: Allowed, access_token: str) -> str:
    """Return an ID token (OpenID Connect Core sections 2, 3.1.3.6 and 3.1.3.7)."""
    issued_at = int(asked.now.timestamp())
    claims: dict[str, Any] = {
        **allowed.in_id_token,
        "iss": asked.runtime.backend.issuer(asked.slug),
        "sub": str(allowed.person_id),
        "aud": asked.proof.client_id,
        "iat": issued_at,
        "exp": issued_at + ID_TOKEN_SECONDS,
        "auth_time": int(allowed.authenticated_at.timestamp()),
        # RFC 8176.
        "amr": amr_of(second_factor=allowed.second_factor, passkey=allowed.passkey, by_provider=allowed.by_provider),
        "acr": acr_of(second_factor=allowed.second_factor),
        "sid": str(allowed.id),
        "at_hash": at_hash(access_token),
    }
    if allowed.nonce:
        claims["nonce"] = allowed.nonce
    return await sign_for_client(asked.runtime.keyring, row.directory_id, asked.now, "JWT", claims)


def at_hash(access_token: str) -> str:
    """Return the left half of a token's SHA-256, in base64url (OpenID Connect Core section 3.1.3.6, for RS256)."""
    half = hashlib.sha256(access_token.encode("ascii")).digest()[:16]
    return base64.urlsafe_b64encode(half).rstrip(b"=").decode()
