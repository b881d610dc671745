"""OpenID Connect: what is told of the person who allowed it (Core section 5.3), and the issuer's metadata (Discovery).

Userinfo takes any access token of this issuer that was allowed `openid`, whichever resource it is for: one token is for
one resource (RFC 8707), and a client of a resource asks who its person is with the token that it has.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from datetime import datetime
from typing import Any
from uuid import UUID

from fastapi import Request
from fastapi.responses import Response
from sqlmodel import Session

from jamb import jose
from jamb.actions.authorization.issued import still_counts
from jamb.actions.authorization.person_tokens import about_person
from jamb.actions.base.lookups import find_directory
from jamb.core.authorization.acr import CLASSES
from jamb.core.authorization.claims import meant
from jamb.core.authorization.refused import RequestRefused
from jamb.core.authorization.requests import ABOUT_PEOPLE, MODES, OPENID, Wanted
from jamb.core.clients.clients import GrantType
from jamb.core.credentials.assertions import ALGORITHMS
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.core.jwt import read_signed
from jamb.core.reach.details import TYPE as DETAIL
from jamb.core.text import UnfitText, line_fault
from jamb.guard import dpop
from jamb.guard.dpop import BadProof, WantsNonce, challenge
from jamb.service.dpop import NONCE_HEADER, SentToken, fresh_nonce, require_possession
from jamb.service.keys import algorithm_of
from jamb.service.oauth.errors import json_response
from jamb.service.runtime import Runtime
from jamb.store.entry import authorizations as store

ANYBODY = {"Access-Control-Allow-Origin": "*"}


class NotThisIssuers(Exception):
    """A bearer token that is not good here (RFC 6750 section 3.1)."""


def claims_of_own(runtime: Runtime, slug: str, token: str) -> dict[str, Any]:
    """Return the claims of an access token of this issuer, for whichever resource. Raises `NotThisIssuers`."""
    with Session(runtime.backend.engine) as session:
        directory = find_directory(session, slug)
    return access_claims(runtime, slug, directory.id, token)


def access_claims(runtime: Runtime, slug: str, directory_id: UUID, token: str) -> dict[str, Any]:
    """The same, where the directory is known by its id."""
    claims = claims_signed_in(runtime, slug, directory_id, token, frozenset({"at+jwt"}))
    if not {"client_id", "jti"} <= claims.keys():
        raise NotThisIssuers
    return claims


def claims_signed_here(
    runtime: Runtime, slug: str, token: str, types: frozenset[str], *, verify_exp: bool = True
) -> dict[str, Any]:
    """Return the claims of a token of these types that this issuer signed. Raises `NotThisIssuers`."""
    with Session(runtime.backend.engine) as session:
        directory = find_directory(session, slug)
    return claims_signed_in(runtime, slug, directory.id, token, types, verify_exp=verify_exp)


def claims_signed_in(
    runtime: Runtime, slug: str, directory_id: UUID, token: str, types: frozenset[str], *, verify_exp: bool = True
) -> dict[str, Any]:
    """The same, where the directory is known by its id."""
    now = runtime.clock.now()
    try:
        read, claims = read_signed(token)
        header = read.header
        kid = header.get("kid")
        if header.get("typ") not in types or not isinstance(kid, str) or line_fault(kid):
            raise NotThisIssuers
        key = runtime.keyring.public(kid, str(directory_id))
        if key is None:
            raise NotThisIssuers
        if not jose.fits(read, algorithm_of(key), key):
            raise NotThisIssuers
        # In the second in which something was taken away, ours are of the next one (`core.tokens`).
        jose.judge(
            claims,
            runtime.backend.issuers(slug, now),
            None,
            now.timestamp(),
            required=("iss", "exp", "aud", "sub", "iat"),
            ended=not verify_exp,
            ahead=True,
        )
    except (jose.NotGood, UnfitText) as error:
        raise NotThisIssuers from error
    return dict(claims)


def for_hinted(runtime: Runtime, slug: str, client_id: str, wanted: Wanted, sent: Mapping[str, str]) -> Wanted:
    """Return what is wanted of the person whose ID token the client shows (Core section 3.1.2.1, id_token_hint).

    Raises:
        RequestRefused: it is no ID token of ours for this client, or of another person than the client means.
    """
    hint = sent.get("id_token_hint")
    if not hint:
        return wanted
    try:
        # Also one that has run out.
        claims = claims_signed_here(runtime, slug, hint, frozenset({"JWT"}), verify_exp=False)
    except NotThisIssuers as error:
        raise RequestRefused("invalid_request", "The id_token_hint is no ID token of this issuer.") from error
    if claims["aud"] != client_id:
        raise RequestRefused("invalid_request", "The id_token_hint is another client's.")
    return replace(wanted, claims=meant(wanted.claims, str(claims["sub"])))


def userinfo(request: Request, runtime: Runtime, slug: str, in_form: str | None = None) -> Response:
    """Answer who the person of a token is, in so far as they allowed it.

    `in_form`: a bearer token in place of one in the header (RFC 6750 section 2.2).
    """
    scheme, _, in_header = request.headers.get("Authorization", "").partition(" ")
    if in_form and scheme:
        return _refused("send the token in the header or in the form, not in both", "invalid_request", 400)
    sent = SentToken("bearer", in_form) if in_form else SentToken(scheme.lower(), in_header.strip())
    if sent.scheme not in {"bearer", "dpop"} or not sent.token:
        return _refused("Send an access token in the Authorization header.", "")
    return _told_by(request, runtime, slug, sent)


def _told_by(request: Request, runtime: Runtime, slug: str, sent: SentToken) -> Response:
    now = runtime.clock.now()
    try:
        claims = claims_of_own(runtime, slug, sent.token)
        urls = [f"{issuer}/userinfo" for issuer in runtime.backend.issuers(slug, now)]
        with Session(runtime.backend.engine) as session:
            require_possession(session, runtime, request, sent, claims, urls)
    except NotThisIssuers:
        return _refused("the token is not good at this issuer")
    except BadProof as error:
        return _unproven(runtime, error, now)
    scope = frozenset(str(claims.get("scope", "")).split())
    if OPENID not in scope or "sid" not in claims:
        return _refused("the token was not allowed openid", "insufficient_scope", 403)
    with Session(runtime.backend.engine) as session:
        directory = find_directory(session, slug)
        told = {}
        if still_counts(session, directory, claims, now):
            allowed = session.get_one(store.AuthorizationRow, UUID(claims["sid"]))
            single = Wanted.of(allowed.request).claims.userinfo
            told = about_person(session, directory, allowed.person_id, scope & ABOUT_PEOPLE, single)
    if not told:
        return _refused("this access has ended")
    return json_response(told, headers={"Cache-Control": "no-store", **ANYBODY})


def _refused(described: str, error: str = "invalid_token", status: int = 401) -> Response:
    """Return a refusal (RFC 6750 section 3). Without a token there is no error to name, but what to send."""
    named = f', error="{error}", error_description="{described}"' if error else ""
    headers = {"WWW-Authenticate": f'Bearer realm="jamb"{named}', "Cache-Control": "no-store", **ANYBODY}
    return json_response({"error": error or "invalid_request", "error_description": described}, status, headers)


def _unproven(runtime: Runtime, error: BadProof, now: datetime) -> Response:
    """Return a refusal as RFC 9449 section 7.1 has it, with what the next proof may carry (section 9)."""
    named = "use_dpop_nonce" if isinstance(error, WantsNonce) else "invalid_dpop_proof"
    answer = _refused(str(error), named)
    answer.headers["WWW-Authenticate"] = challenge("jamb", named, str(error))
    answer.headers[NONCE_HEADER] = fresh_nonce(runtime.backend, now)
    answer.headers["Access-Control-Expose-Headers"] = f"{NONCE_HEADER}, WWW-Authenticate"
    return answer


def metadata_of(runtime: Runtime, slug: str) -> dict[str, Any]:
    """Return the issuer's metadata (RFC 8414 section 2, OpenID Connect Discovery section 3)."""
    issuer = runtime.backend.issuer(slug)
    proofs = ["client_secret_basic", "client_secret_post", "private_key_jwt"]
    if runtime.settings.client_certificates:
        proofs.append("self_signed_tls_client_auth")
    return {
        "issuer": issuer,
        "authorization_endpoint": f"{issuer}/authorize",
        "token_endpoint": runtime.backend.token_endpoint(slug),
        "userinfo_endpoint": f"{issuer}/userinfo",
        "revocation_endpoint": f"{issuer}/revoke",
        "introspection_endpoint": f"{issuer}/introspect",
        "device_authorization_endpoint": f"{issuer}/device_authorization",
        "registration_endpoint": f"{issuer}/register",
        "jwks_uri": f"{issuer}/jwks",
        "response_types_supported": ["code"],
        "response_modes_supported": list(MODES),
        "end_session_endpoint": f"{issuer}/logout",
        "backchannel_logout_supported": True,
        "backchannel_logout_session_supported": True,
        "pushed_authorization_request_endpoint": f"{issuer}/par",
        "require_pushed_authorization_requests": False,
        "grant_types_supported": [one.value for one in GrantType],
        "subject_types_supported": ["public"],
        "id_token_signing_alg_values_supported": [SigningAlgorithm.RS256.value],
        "scopes_supported": sorted(ABOUT_PEOPLE),
        "claims_supported": [
            "sub",
            "iss",
            "aud",
            "exp",
            "iat",
            "auth_time",
            "nonce",
            "at_hash",
            "amr",
            "acr",
            "sid",
            "name",
            "preferred_username",
            "email",
            "email_verified",
            "groups",
        ],
        "code_challenge_methods_supported": ["S256"],
        "acr_values_supported": list(CLASSES),
        "prompt_values_supported": ["none", "login", "consent", "select_account"],
        "token_endpoint_auth_methods_supported": [*proofs, "none"],
        "token_endpoint_auth_signing_alg_values_supported": list(ALGORITHMS),
        "revocation_endpoint_auth_methods_supported": [*proofs, "none"],
        "revocation_endpoint_auth_signing_alg_values_supported": list(ALGORITHMS),
        "introspection_endpoint_auth_methods_supported": proofs,
        "introspection_endpoint_auth_signing_alg_values_supported": list(ALGORITHMS),
        # RFC 9701 section 6.
        "introspection_signing_alg_values_supported": [SigningAlgorithm.RS256.value],
        # RFC 8705 section 3.3.
        "tls_client_certificate_bound_access_tokens": runtime.settings.client_certificates,
        # RFC 9449 section 5.1.
        "dpop_signing_alg_values_supported": list(dpop.ALGORITHMS),
        # RFC 9207 section 3.
        "authorization_response_iss_parameter_supported": True,
        "request_parameter_supported": True,
        "request_object_signing_alg_values_supported": list(ALGORITHMS),
        "request_uri_parameter_supported": False,
        "claims_parameter_supported": True,
        # RFC 9396 section 10.
        "authorization_details_types_supported": [DETAIL],
    }
