"""Tokens that are given back (RFC 7009), and tokens that are asked about (RFC 7662, signed by RFC 9701)."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response
from sqlmodel import Session

from jamb.actions.authorization import person_tokens
from jamb.actions.authorization.authorizations import digest_of
from jamb.actions.base.lookups import find_directory
from jamb.core.authorization.exchange import ways_of
from jamb.core.jwt import key_id
from jamb.core.text import UnfitText
from jamb.service.dpop import key_of
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth.authenticate import authenticated
from jamb.service.oauth.errors import NO_STORE, OAuthError, json_response
from jamb.service.oauth.form import ClientProof, Form
from jamb.service.oauth.mint import sign_for_client
from jamb.service.oauth.people.openid import NotThisIssuers, access_claims, claims_of_own
from jamb.service.oauth.request import TokenRequest
from jamb.service.runtime import Runtime
from jamb.store.entry import authorizations as store
from jamb.store.entry.people_path import STILL_COUNTS
from jamb.store.entry.tokens import Authenticated


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
    told = await _told(asked, row, token)
    if SIGNED not in request.headers.get("Accept", ""):
        return json_response(told)
    # RFC 9701 section 5: for whoever keeps it as proof, or has it from somebody else than us.
    claims = {
        "iss": runtime.backend.issuer(slug),
        "aud": proof.client_id,
        "iat": int(asked.now.timestamp()),
        "token_introspection": told,
    }
    signed = await sign_for_client(runtime.keyring, row.directory_id, asked.now, "token-introspection+jwt", claims)
    return Response(signed, 200, dict(NO_STORE), SIGNED)


SIGNED = "application/token-introspection+jwt"
_NOTHING = {"active": False}


async def _told(asked: TokenRequest, row: Authenticated, token: str) -> dict[str, Any]:
    """Return what is said of a token, to whoever may ask about it; of any other that it is not active."""
    if token.count(".") != 2:
        return await run_in_threadpool(_told_of_refresh, asked, token)
    try:
        if asked.runtime.keyring.is_fresh(key_id(token)):
            claims = access_claims(asked.runtime, asked.slug, row.directory_id, token)
        else:
            claims = await run_in_threadpool(access_claims, asked.runtime, asked.slug, row.directory_id, token)
    except (NotThisIssuers, UnfitText):
        return _NOTHING
    guard = await counting_guard(asked.runtime, asked.slug, claims, asked.now)
    if guard is None or asked.proof.client_id not in {claims["client_id"], guard}:
        return _NOTHING
    kind = "DPoP" if key_of(claims) else "Bearer"
    return {"active": True, "token_type": kind, **claims}


async def counting_guard(runtime: Runtime, slug: str, claims: Mapping[str, Any], now: datetime) -> str | None:
    """Return the guard of the resource that an access token is for, empty without one; None: it counts no more."""
    values = {
        "slug": slug,
        "audience": str(claims["aud"]),
        "clients": list(ways_of(claims)),
        "sid": UUID(claims["sid"]) if "sid" in claims else None,
        "person": UUID(claims["sub"]) if "sid" in claims else None,
        "issued": datetime.fromtimestamp(claims["iat"], UTC),
        "now": now,
    }
    rows = await runtime.reader.rows(STILL_COUNTS, values)
    return (rows[0][1] or "") if rows and rows[0][0] else None


def _told_of_refresh(asked: TokenRequest, token: str) -> dict[str, Any]:
    backend = asked.runtime.backend
    with Session(backend.engine) as session:
        directory = find_directory(session, asked.slug)
        found = store.by_refresh_token(session, directory.id, digest_of(backend, token))
        return _refresh_token(*found, asked.proof.client_id, asked.now) if found is not None else _NOTHING


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
