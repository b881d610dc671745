"""Sign in by an outside OpenID provider: which there are, off to one, and back from it."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlencode
from uuid import UUID

import structlog
from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from fastapi.responses import RedirectResponse, Response
from sqlmodel import Session

from jamb.actions.base.lookups import find_directory, refuse_suspended
from jamb.actions.directory.providers import provider_named, redirect_uri
from jamb.actions.entry.provided import sign_in
from jamb.actions.entry.sessions import SignedIn, Visitor
from jamb.core.directory.providers import Provider, Refused
from jamb.service.callers import TheRuntime, cookie_names
from jamb.service.http.routing import api_router
from jamb.service.http.senders import address_of, agent_of
from jamb.service.outside_sign_in import LIFE, Begun, NotAnswered, begun_in
from jamb.service.routes.entry.session import enter
from jamb.service.runtime import Runtime
from jamb.store.directory import directories, providers
from jamb.store.directory.people import MOST_DIRECTORIES
from jamb.wire.directory.providers import ProviderOffered, ProvidersWanted

router = api_router("", tags=["session"])
_log = structlog.get_logger("jamb.providers")
COOKIE = "jamb_provider"
# It lies in a cookie, of which browsers keep 4096 bytes.
LONGEST_THEN = 2000


@router.post("/api/v1/session/providers")
def offer_providers(sent: ProvidersWanted, runtime: TheRuntime) -> list[ProviderOffered]:
    """By which providers somebody may sign in: of one directory, or of those with the domain of their login."""
    domain = sent.login.strip().lower().rpartition("@")[2]
    with Session(runtime.backend.engine) as session:
        places = directories.signing_in(session, sent.directory.strip().lower(), domain, MOST_DIRECTORIES)
        return [
            ProviderOffered(title=row.title, href=f"/d/{place.slug}/sign-in/{row.name}")
            for place in places
            for row in providers.providers_of(session, place.id)
        ]


@router.get("/d/{directory}/sign-in/{provider}", include_in_schema=False)
async def begin(directory: str, provider: str, request: Request, runtime: TheRuntime) -> Response:
    """Off to a provider. Where the browser comes back to afterwards stands in `then`: a page of ours."""
    slug, now = directory, runtime.clock.now()
    key, known, _ = await run_in_threadpool(_provider, runtime, slug, name=provider)
    then = request.query_params.get("then", "/")
    try:
        begun, address = await runtime.providers.begin(
            known, key, redirect_uri(runtime.backend, slug), then if _is_ours(then) else "/", now
        )
    except NotAnswered as error:
        _log.warning("provider", issuer=known.issuer, fault=str(error))
        return _refused(Refused.FAILED)
    answer = RedirectResponse(address, 303, {"Cache-Control": "no-store", "Referrer-Policy": "no-referrer"})
    answer.set_cookie(
        COOKIE,
        begun.sealed(runtime.backend),
        max_age=int(LIFE.total_seconds()),
        path=f"/d/{slug}/signed-in",
        httponly=True,
        # The provider sends the browser back from elsewhere.
        samesite="lax",
        secure=cookie_names(runtime).secure,
    )
    return answer


@router.get("/d/{directory}/signed-in", include_in_schema=False)
async def come_back(directory: str, request: Request, runtime: TheRuntime) -> Response:
    """Back from a provider, with a code or with a refusal."""
    slug, sent = directory, dict(request.query_params)
    begun = begun_in(runtime.backend, request.cookies.get(COOKIE, ""), sent.get("state", ""), runtime.clock.now())
    if begun is None:
        return _refused(Refused.LATE)
    if "error" in sent or "code" not in sent:
        declined = sent.get("error") in {"access_denied", "login_required", "interaction_required"}
        return _refused(Refused.DECLINED if declined else Refused.FAILED)
    done = await _finish(request, runtime, slug, begun, sent)
    if isinstance(done, Refused):
        return _refused(done)
    answer = RedirectResponse(begun.then, 303, {"Cache-Control": "no-store", "Referrer-Policy": "no-referrer"})
    await run_in_threadpool(enter, request, answer, runtime, done, runtime.clock.now())
    answer.delete_cookie(COOKIE, path=f"/d/{slug}/signed-in")
    return answer


async def _finish(
    request: Request, runtime: Runtime, slug: str, begun: Begun, sent: Mapping[str, str]
) -> SignedIn | Refused:
    key, known, secret = await run_in_threadpool(_provider, runtime, slug, key=UUID(begun.provider_id))
    back, now = redirect_uri(runtime.backend, slug), runtime.clock.now()
    try:
        claims = await runtime.providers.claims(known, secret, begun, sent, back, now)
    except NotAnswered as error:
        _log.warning("provider", issuer=known.issuer, fault=str(error))
        return Refused.FAILED
    visitor = Visitor(address_of(request), agent_of(request))
    return await run_in_threadpool(sign_in, runtime.backend, slug, key, claims, visitor, now)


def _provider(runtime: Runtime, slug: str, *, name: str = "", key: UUID | None = None) -> tuple[UUID, Provider, str]:
    """Return a provider by its name or id, and its secret. Raises `NotFound`."""
    with Session(runtime.backend.engine) as session:
        directory = find_directory(session, slug)
        refuse_suspended(directory)
        row = session.get(providers.ProviderRow, key) if key is not None else None
        if row is None or row.directory_id != directory.id:
            row = provider_named(session, directory, name)
        secret = runtime.backend.sealer.open(row.secret, f"provider {row.id}").decode() if row.secret else ""
        return row.id, row.value(), secret


def _is_ours(then: str) -> bool:
    """Only a path, never another host: browsers read // and a backslash as the beginning of one."""
    if len(then) > LONGEST_THEN:
        return False
    return then.startswith("/") and not then.startswith(("//", "/\\")) and then.isprintable() and "\\" not in then


def _refused(why: Refused) -> Response:
    headers = {"Cache-Control": "no-store"}
    return RedirectResponse(f"/sign-in?{urlencode({'refused': why.value})}", 303, headers)
