"""Dynamic client registration (RFC 7591) and its management (RFC 7592): JSON in, JSON out, by a bearer token."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import Response

from jamb.actions.drafts.dynamic_registration import Told, change_itself, leave, read_itself, register_itself
from jamb.actions.entry.tries import guessing
from jamb.core.clients.metadata import METADATA, UnfitMetadata, read_metadata, told, words_of
from jamb.core.errors import Forbidden, NotFound, NotSignedIn, Refusal, Suspended, TooManyTries
from jamb.core.text import UnfitText, line_fault, read_json
from jamb.core.tries import REGISTRATION_ADDRESS, Counted
from jamb.service.http.senders import address_of
from jamb.service.oauth.errors import NO_STORE, OAuthError, json_response, too_many
from jamb.service.oauth.form import read_body
from jamb.service.runtime import Runtime

AnswerT = TypeVar("AnswerT")


async def register(request: Request, runtime: Runtime, slug: str) -> Response:
    """Client registration endpoint (RFC 7591 section 3): takes an initial access token."""
    body, token, backend, now = await _object(request), _bearer(request), runtime.backend, runtime.clock.now()
    made = await _called(request, runtime, lambda: register_itself(backend, slug, token, read_metadata(body), now))
    return json_response(_answer(runtime, slug, made), 201)


async def manage(request: Request, runtime: Runtime, slug: str, client_id: str) -> Response:
    """Client configuration endpoint (RFC 7592 section 2): GET, PUT and DELETE by the registration access token."""
    token, now, backend = _bearer(request), runtime.clock.now(), runtime.backend
    if request.method == "DELETE":
        await _called(request, runtime, lambda: leave(backend, slug, client_id, token, now))
        return Response(status_code=204, headers=NO_STORE)
    if request.method == "GET":
        seen = await _called(request, runtime, lambda: read_itself(backend, slug, client_id, token))
    else:
        body = await _object(request)
        seen = await _called(
            request, runtime, lambda: change_itself(backend, slug, client_id, token, read_metadata(body), now)
        )
    return json_response(_answer(runtime, slug, seen))


def _answer(runtime: Runtime, slug: str, made: Told) -> dict[str, Any]:
    """Return the client information response (RFC 7591 section 3.2.1, RFC 7592 section 3)."""
    answer: dict[str, Any] = {
        "client_id": made.client_id,
        "client_id_issued_at": int(made.at.timestamp()),
        "registration_access_token": made.token,
        "registration_client_uri": f"{runtime.backend.issuer(slug)}/register/{made.client_id}",
        **told(made.said, made.method, made.scope),
        **made.keys,
    }
    if made.secret:
        ends = int(made.ends.timestamp()) if made.ends is not None else 0
        answer |= {"client_secret": made.secret, "client_secret_expires_at": ends}
    return answer


async def _called(request: Request, runtime: Runtime, work: Callable[[], AnswerT]) -> AnswerT:
    """Do the work in a thread. A token that is not good is counted by its sender's address."""
    by_address, now = Counted(REGISTRATION_ADDRESS, (address_of(request),)), runtime.clock.now()

    def counted() -> tuple[AnswerT] | Refusal | UnfitMetadata:
        with guessing(runtime.backend, by_address, now):
            try:
                return (work(),)
            except NotSignedIn:
                raise
            except (UnfitMetadata, Refusal) as error:
                # What is wrong with what was said is no guess at a token.
                return error

    try:
        done = await run_in_threadpool(counted)
    except NotSignedIn as error:
        raise OAuthError("invalid_token", f"{error.message} {error.next_step}", status=401) from error
    except TooManyTries as error:
        raise too_many(error) from error
    if not isinstance(done, tuple):
        raise _refusal(done) from done
    return done[0]


def _refusal(error: Refusal | UnfitMetadata) -> Exception:
    """Return it as RFC 7591 section 3.2.2 has it; a wrong directory stays a wrong address."""
    if isinstance(error, UnfitMetadata):
        return OAuthError(error.code, str(error))
    if isinstance(error, NotFound | Suspended):
        return error
    if isinstance(error, Forbidden):
        return OAuthError("access_denied", f"{error.message} {error.next_step}", status=403)
    return OAuthError(METADATA, words_of(error))


def _bearer(request: Request) -> str:
    """Return the token of the Authorization header (RFC 6750 section 2.1): in no address, where logs would keep it."""
    scheme, _, token = request.headers.get("Authorization", "").partition(" ")
    if scheme.lower() != "bearer" or not token.strip() or line_fault(token):
        raise OAuthError("invalid_token", "Send the token in the Authorization header, as Bearer.", status=401)
    return token.strip()


async def _object(request: Request) -> Any:
    if request.headers.get("Content-Type", "").partition(";")[0].strip().lower() != "application/json":
        raise OAuthError(METADATA, "Send client metadata as application/json.")
    try:
        return read_json(await read_body(request))
    except UnfitText as error:
        raise OAuthError(METADATA, f"The metadata cannot be read: {error}.") from error
