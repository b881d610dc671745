"""The addresses of a directory as an issuer: token, device authorization, keys and metadata."""

from __future__ import annotations

from collections.abc import Awaitable, Callable
from datetime import UTC, datetime

from fastapi import APIRouter, FastAPI, Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.authorization.requested import page_may_read
from jamb.actions.authorization.sealed import opened_answer
from jamb.actions.clients.logos import shown_logo
from jamb.actions.directory.directories import authority_certificates, read_directory
from jamb.actions.directory.signing_keys import published_keys
from jamb.core.clients.clients import GrantType
from jamb.core.credentials.urns import JWT_BEARER
from jamb.core.errors import NotFound
from jamb.service.callers import TheRuntime
from jamb.service.dpop import HEADER, NONCE_HEADER, fresh_nonce
from jamb.service.http.problems import problem_response
from jamb.service.http.senders import address_of, agent_of
from jamb.service.oauth import device
from jamb.service.oauth.authenticate import UnknownDirectory
from jamb.service.oauth.client_credentials import client_credentials
from jamb.service.oauth.errors import OAuthError, json_response
from jamb.service.oauth.form import Form, brings_form, read_form, read_outside_proof, read_proof
from jamb.service.oauth.own_rotation import rotate_own
from jamb.service.oauth.people.authorize import authorize
from jamb.service.oauth.people.exchange import token_exchange
from jamb.service.oauth.people.form_post import posting_page
from jamb.service.oauth.people.openid import ANYBODY, metadata_of, userinfo
from jamb.service.oauth.people.pushed import push
from jamb.service.oauth.people.revoke_introspect import introspect, revoke
from jamb.service.oauth.people.sign_out import sign_out
from jamb.service.oauth.people.tokens import authorization_code, refresh_token
from jamb.service.oauth.register import manage, register
from jamb.service.runtime import Runtime

router = APIRouter(tags=["oauth"])
CLIENT_CREDENTIALS = "client_credentials"
TOKEN_PATH = "/d/{directory}/token"  # noqa: S105 - a path
INTROSPECTION_PATH = "/d/{directory}/introspect"


async def token(request: Request) -> Response:
    """Token endpoint (RFC 6749 section 3.2). Takes a form; answers JSON.

    A plain route in front of all others: dependency resolution and the search through the administrator's routes would
    be a quarter of its cost.
    """
    runtime: Runtime = request.app.state.runtime
    directory: str = request.path_params["directory"]
    form = await read_form(request)
    return await _readable(request, runtime, directory, form, lambda: _token(request, runtime, directory, form))


async def _readable(
    request: Request, runtime: Runtime, directory: str, form: Form, work: Callable[[], Awaitable[Response]]
) -> Response:
    """Return the answer, which pages of a browser client's own origins may read, with what its next proof may carry."""
    origin, proven = request.headers.get("origin"), HEADER in request.headers
    if origin is None and not proven:
        return await work()
    try:
        answer = await work()
    except OAuthError as error:
        answer = error.response()
    if proven:
        # RFC 9449 section 8.2.
        answer.headers[NONCE_HEADER] = fresh_nonce(runtime.backend, runtime.clock.now())
    named = form.get("client_id") or ""
    if origin is not None and await run_in_threadpool(page_may_read, runtime.backend, directory, named, origin):
        readable = {"Access-Control-Allow-Origin": origin, "Access-Control-Expose-Headers": NONCE_HEADER}
        answer.headers.update({**readable, "Vary": "Origin"})
    return answer


async def from_pages(_request: Request) -> Response:
    """What a page elsewhere may send: which pages may read the answer is told with it (Fetch standard, CORS)."""
    allowed = {"Access-Control-Allow-Methods": "GET, POST", "Access-Control-Allow-Headers": "Authorization, DPoP"}
    return Response(status_code=204, headers={**ANYBODY, **allowed, "Access-Control-Max-Age": "86400"})


async def _token(request: Request, runtime: Runtime, directory: str, form: Form) -> Response:
    grant_type, now = form.get("grant_type"), runtime.clock.now()
    if grant_type == CLIENT_CREDENTIALS:
        return await client_credentials(request, runtime, directory, form, read_proof(request, form), now)
    if grant_type == GrantType.AUTHORIZATION_CODE:
        return await authorization_code(request, runtime, directory, form, read_proof(request, form), now)
    if grant_type == GrantType.REFRESH_TOKEN:
        return await refresh_token(request, runtime, directory, form, read_proof(request, form), now)
    if grant_type == JWT_BEARER:
        return await client_credentials(request, runtime, directory, form, read_outside_proof(form), now)
    if grant_type == GrantType.TOKEN_EXCHANGE:
        return await token_exchange(request, runtime, directory, form, read_proof(request, form), now)
    if grant_type == device.GRANT_TYPE:
        return await device.device_token(request, runtime, directory, form, now)
    if grant_type is None:
        raise OAuthError("invalid_request", "The parameter grant_type is missing.")
    raise OAuthError("unsupported_grant_type", f"Use one of {', '.join(GrantType)}.")


@router.post("/d/{directory}/device_authorization")
async def device_authorization(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """Device authorization endpoint (RFC 8628 section 3.1)."""
    form = await read_form(request)
    return await device.authorize_device(runtime, directory, form, address_of(request), runtime.clock.now())


@router.post("/d/{directory}/rotation")
async def rotation(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """A client's own rotation of its secret or key, authenticated with it."""
    form = await read_form(request)
    proof = read_proof(request, form)
    return await rotate_own(
        runtime, directory, form, proof, address_of(request), agent_of(request), runtime.clock.now()
    )


@router.get("/d/{directory}/jwks")
async def jwks(directory: str, runtime: TheRuntime) -> Response:
    """The directory's public signing keys (RFC 7517 section 5)."""
    keys = await run_in_threadpool(published_keys, runtime.backend, directory, datetime.now(UTC))
    headers = {"Cache-Control": "public, max-age=300", **ANYBODY}
    return json_response({"keys": [key.public_jwk for key in keys]}, headers=headers)


@router.get("/d/{directory}/authority")
async def authority(directory: str, runtime: TheRuntime) -> Response:
    """The certificates of the directory's authority, for whoever checks those it issued (RFC 8555 section 9.1)."""
    text = await run_in_threadpool(authority_certificates, runtime.backend, directory)
    return Response(
        text, media_type="application/pem-certificate-chain", headers={"Cache-Control": "public, max-age=300"}
    )


@router.get("/.well-known/oauth-authorization-server/d/{directory}")
@router.get("/.well-known/openid-configuration/d/{directory}", include_in_schema=False)
@router.get("/d/{directory}/.well-known/openid-configuration", include_in_schema=False)
@router.get("/d/{directory}/.well-known/oauth-authorization-server", include_in_schema=False)
async def metadata(directory: str, runtime: TheRuntime) -> Response:
    """The issuer's metadata, at the addresses of RFC 8414 section 3.1 and of OpenID Connect Discovery section 4.

    Either name is known at either place (RFC 8414 section 5): clients look for each of the four.
    """
    found = await run_in_threadpool(read_directory, runtime.backend, directory)
    headers = {"Cache-Control": "public, max-age=300", **ANYBODY}
    return json_response(metadata_of(runtime, found.slug), headers=headers)


@router.get("/d/{directory}/authorize", include_in_schema=False)
async def authorize_by_get(directory: str, request: Request) -> Response:
    """Authorization endpoint (RFC 6749 section 3.1): leads to the page that asks the person."""
    return await authorize(request, directory)


@router.post("/d/{directory}/authorize", include_in_schema=False)
async def authorize_by_post(directory: str, request: Request) -> Response:
    """The same with a form (OpenID Connect Core section 3.1.2.1)."""
    return await authorize(request, directory)


@router.post("/d/{directory}/par", status_code=201)
async def pushed_request(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """A client pushes what it will ask of a person, and gets an address to ask by (RFC 9126)."""
    form = await read_form(request)

    async def pushed() -> Response:
        return await push(request, runtime, directory, form, read_proof(request, form), runtime.clock.now())

    return await _readable(request, runtime, directory, form, pushed)


@router.post("/d/{directory}/register", status_code=201)
async def registration(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """Software registers a client of its own, by an initial access token (RFC 7591)."""
    return await register(request, runtime, directory)


@router.get("/d/{directory}/register/{client}")
async def read_own_registration(directory: str, client: str, request: Request, runtime: TheRuntime) -> Response:
    """What is said of a client that registered itself, by its registration access token (RFC 7592 section 2.1)."""
    return await manage(request, runtime, directory, client)


@router.put("/d/{directory}/register/{client}")
async def change_own_registration(directory: str, client: str, request: Request, runtime: TheRuntime) -> Response:
    """Put other metadata in place of a draft's (RFC 7592 section 2.2)."""
    return await manage(request, runtime, directory, client)


@router.delete("/d/{directory}/register/{client}", status_code=204)
async def end_own_registration(directory: str, client: str, request: Request, runtime: TheRuntime) -> Response:
    """A client that registered itself leaves (RFC 7592 section 2.3): it is disabled, its credentials withdrawn."""
    return await manage(request, runtime, directory, client)


@router.get("/d/{directory}/logout", include_in_schema=False)
async def logout_by_get(directory: str, request: Request) -> Response:
    """Logout endpoint (OpenID Connect RP-Initiated Logout section 2): leads to the page that signs the person out."""
    return await sign_out(request, directory)


@router.post("/d/{directory}/logout", include_in_schema=False)
async def logout_by_post(directory: str, request: Request) -> Response:
    """The same with a form."""
    return await sign_out(request, directory)


@router.post("/d/{directory}/answer", include_in_schema=False)
async def answer_by_form(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """The page that carries an answer on to the client as a form: its field `answer` is what the console was given."""
    del directory
    form = await read_form(request)
    address, members = opened_answer(runtime.backend, form.get("answer") or "", runtime.clock.now())
    return posting_page(address, members)


@router.get("/d/{directory}/logos/{logo}", include_in_schema=False)
def client_logo(directory: str, logo: str, runtime: TheRuntime) -> Response:
    """The picture of a client, by its digest: whoever has the page that shows it has this (RFC 7591 section 2)."""
    headers = {"Cache-Control": "public, max-age=86400, immutable", "Content-Security-Policy": "default-src 'none'"}
    return Response(shown_logo(runtime.backend, directory, logo), media_type="image/png", headers=headers)


@router.get("/d/{directory}/userinfo")
def userinfo_by_get(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """Who the person of an access token is, in so far as they allowed it (OpenID Connect Core section 5.3)."""
    return userinfo(request, runtime, directory)


@router.post("/d/{directory}/userinfo")
async def userinfo_by_post(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """The same by POST, with the token in the header or, a bearer token, as `access_token` of a form (RFC 6750)."""
    form = await read_form(request) if brings_form(request) else None
    sent = form.get("access_token") if form else None
    return await run_in_threadpool(userinfo, request, runtime, directory, sent)


@router.post("/d/{directory}/revoke")
async def revocation(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """A client gives a token back (RFC 7009)."""
    form = await read_form(request)

    async def revoked() -> Response:
        return await revoke(request, runtime, directory, form, read_proof(request, form))

    return await _readable(request, runtime, directory, form, revoked)


@router.post("/d/{directory}/introspect")
async def introspection(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """Whether a token counts, for the guard of its resource or its own client (RFC 7662)."""
    form = await read_form(request)
    return await introspect(request, runtime, directory, form, read_proof(request, form))


async def introspection_at_once(request: Request) -> Response:
    """The same as a plain route in front of all others, as `token` is."""
    return await introspection(request.path_params["directory"], request, request.app.state.runtime)


for _path in ("token", "par", "revoke", "userinfo"):
    router.add_api_route(f"/d/{{directory}}/{_path}", from_pages, methods=["OPTIONS"], include_in_schema=False)


def add_oauth_handlers(app: FastAPI) -> None:
    """Answer failures under /d/ as RFC 6749 has it; a wrong directory is a wrong address, not an OAuth error."""

    @app.exception_handler(OAuthError)
    async def oauth(_request: Request, error: OAuthError) -> Response:
        return error.response()

    @app.exception_handler(UnknownDirectory)
    async def unknown(request: Request, _error: UnknownDirectory) -> Response:
        slug = request.path_params.get("directory", "")
        return problem_response(
            NotFound(
                f"There is no directory “{slug[:40]}” here.", next_step="Check the issuer on the connection sheet."
            )
        )
