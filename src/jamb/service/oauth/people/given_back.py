"""Tokens that are given back (RFC 7009), and tokens that are asked about (RFC 7662, signed by RFC 9701)."""

from __future__ import annotations

from datetime import datetime
from typing import Any
from uuid import UUID

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response
from sqlmodel import Session

from jamb.actions.authorization import person_tokens
from jamb.actions.authorization.authorizations import digest_of
from jamb.actions.authorization.issued import still_counts
from jamb.actions.base.lookups import find_directory
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.authenticate import authenticated
from jamb.service.oauth.errors import NO_STORE, OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.mint import sign
from jamb.service.oauth.people.openid import NotThisIssuers, claims_of_own
from jamb.service.oauth.request import TokenRequest
from jamb.service.possession import key_of
from jamb.service.runtime import Runtime
from jamb.store.entry import authorizations as store
from jamb.store.resources import resources


async def revoke(request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof) -> Response:
    """End the access that a token belongs to; of one that is not known it is answered alike (RFC 7009 section 2.2)."""
    token = form.get("token")
    if token is None:
        raise OAuthError("invalid_request", "The parameter token is missing.")
    asked = TokenRequest(runtime, slug, proof, runtime.clock.now(), address_of(request), agent_of(request))
    await authenticated(asked)
    await run_in_threadpool(_end, runtime, slug, proof.client_id, token, asked.now)
    return json_response({})


def _end(runtime: Runtime, slug: str, client_id: str, token: str, now: datetime) -> None:
    person_tokens.revoke(runtime.backend, slug, client_id, token, now)
    try:
        claims = claims_of_own(runtime, slug, token)
    except NotThisIssuers:
        return
    if "sid" in claims and "act" not in claims:
        by = "the application gave it back"
        person_tokens.end_by_id(runtime.backend, UUID(claims["sid"]), client_id, by, now)
    elif claims["client_id"] == client_id:
        # RFC 7009 section 2.2.1: to say that it has ended would not be true.
        raise OAuthError(
            "unsupported_token_type",
            "Such a token ends by itself, with what it came from, or by its owner.",
        )


async def introspect(request: Request, runtime: Runtime, slug: str, form: Form, proof: ClientProof) -> Response:
    """Say whether a token counts, to the guard of its resource or to the client it was issued to."""
    token = form.get("token")
    if token is None:
        raise OAuthError("invalid_request", "The parameter token is missing.")
    asked = TokenRequest(runtime, slug, proof, runtime.clock.now(), address_of(request), agent_of(request))
    row = await authenticated(asked)
    if proof.secret is None and proof.assertion is None and not asked.certificate:
        raise OAuthError("invalid_client", "A public client asks about nothing: it proves nothing.")
    told = await run_in_threadpool(_told, runtime, slug, proof.client_id, token, asked.now)
    if SIGNED not in request.headers.get("Accept", ""):
        return json_response(told)
    # RFC 9701 section 5: for whoever keeps it as proof, or has it from somebody else than us.
    claims = {
        "iss": runtime.backend.issuer(slug),
        "aud": proof.client_id,
        "iat": int(asked.now.timestamp()),
        "token_introspection": told,
    }
    signed = await sign(runtime.keyring, row.kid, "token-introspection+jwt", claims)
    return Response(signed, 200, dict(NO_STORE), SIGNED)


SIGNED = "application/token-introspection+jwt"
_NOTHING = {"active": False}


def _told(runtime: Runtime, slug: str, client_id: str, token: str, now: datetime) -> dict[str, Any]:
    with Session(runtime.backend.engine) as session:
        directory = find_directory(session, slug)
        found = store.by_refresh_token(session, directory.id, digest_of(runtime.backend, token))
        if found is not None:
            return _refresh_token(*found, client_id, now)
        try:
            claims = claims_of_own(runtime, slug, token)
        except NotThisIssuers:
            return _NOTHING
        resource = resources.by_identifier(session, directory.id, str(claims["aud"]))
        if not still_counts(session, directory, claims, now):
            return _NOTHING
        asks = claims["client_id"] == client_id or (resource is not None and resource.guard_client_id == client_id)
        if not asks:
            return _NOTHING
        kind = "DPoP" if key_of(claims) else "Bearer"
        return {"active": True, "token_type": kind, **claims}


def _refresh_token(
    access: store.AuthorizationRow, held: store.RefreshTokenRow, client_id: str, now: datetime
) -> dict[str, Any]:
    counts = access.client_id == client_id and access.ended_at is None and held.used_at is None
    if not counts or held.expires_at <= now:
        return _NOTHING
    return {
        "active": True,
        "token_type": "refresh_token",
        "client_id": client_id,
        "sub": str(access.person_id),
        "scope": " ".join(access.scope),
        "exp": int(held.expires_at.timestamp()),
    }
