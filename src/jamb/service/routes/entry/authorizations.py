"""What clients ask of people: the page looks it up, the person decides, sees what they allowed, and ends it."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from fastapi import Request
from fastapi.concurrency import run_in_threadpool
from sqlmodel import Session

from jamb.actions.authorization import authorizations, own_authorizations, sealed, sign_outs
from jamb.actions.consent import requests_of_people
from jamb.actions.entry import sessions
from jamb.core.clients.attempts import Outcome
from jamb.service.callers import Now, TheRuntime, TheSession, cookie_names
from jamb.service.http.routing import api_router
from jamb.service.http.senders import address_of, agent_of
from jamb.service.running.recorder import Attempt
from jamb.service.runtime import Runtime
from jamb.wire.directory import authorizations as wire

router = api_router("/api/v1", tags=["session"])


@router.post("/authorizations/lookup")
def look_at_request(
    sent: wire.AuthorizationLookup, request: Request, runtime: TheRuntime, now: Now
) -> wire.AuthorizationAsked:
    """What a client asks of whoever is signed in: sealed by the authorization endpoint, and sent in the body alone."""
    asked = sealed.opened_request(runtime.backend, sent.request, now)
    return authorizations.look(runtime.backend, asked, _session_if_any(request, runtime, now), now)


def _session_if_any(request: Request, runtime: Runtime, now: datetime) -> sessions.ConsoleSession | None:
    cookie = request.cookies.get(cookie_names(runtime).session)
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        return sessions.find_session(session, runtime.backend, cookie, now) if cookie else None


@router.post("/authorizations/decision")
async def decide_on_request(
    sent: wire.AuthorizationDecision, request: Request, found: TheSession, runtime: TheRuntime, now: Now
) -> wire.AuthorizationDecided:
    """Allow it, or not. The answer says where the person is sent with it."""
    asked = sealed.opened_request(runtime.backend, sent.request, now)
    chosen = frozenset(sent.permissions)
    there = await run_in_threadpool(
        lambda: authorizations.decide(runtime.backend, asked, found, chosen, now, allow=sent.allow)
    )
    if not sent.allow:
        await runtime.recorder.record(
            Attempt(
                found.directory.id,
                asked.client_id,
                now,
                Outcome.PERSON_DECLINED,
                "",
                asked.wanted.resource[:300],
                "the person said no",
                address_of(request),
                agent_of(request),
            )
        )
    return wire.AuthorizationDecided(**authorizations.sent_on(runtime.backend, there, now))


@router.post("/authorizations/requests", status_code=201)
def request_of_administrator(
    sent: wire.RequestOfPerson, found: TheSession, runtime: TheRuntime, now: Now
) -> wire.RequestMade:
    """Ask an administrator to allow what you cannot: it waits at the consent desk, in your name."""
    asked = sealed.opened_request(runtime.backend, sent.request, now)
    made = requests_of_people.request_for(runtime.backend, asked, found, sent.reason, now)
    return wire.RequestMade(due_at=made.due_at)


@router.post("/sign-outs/lookup")
def look_at_sign_out(sent: wire.SignOutLookup, request: Request, runtime: TheRuntime, now: Now) -> wire.SignOutLooked:
    """What an application asks that wants its person signed out: sealed by the logout endpoint."""
    asked = sealed.opened_sign_out(runtime.backend, sent.request, now)
    return sign_outs.look(runtime.backend, asked, _session_if_any(request, runtime, now))


@router.get("/session/authorizations")
def list_own(found: TheSession, runtime: TheRuntime, now: Now) -> list[wire.OwnAuthorization]:
    """The clients that act for you, newest first."""
    return own_authorizations.of_person(runtime.backend, found, now)


@router.delete("/session/authorizations/{authorization}", status_code=204)
def end_own(authorization: UUID, found: TheSession, runtime: TheRuntime, now: Now) -> None:
    """End what a client does for you: it gets no further tokens, and those it has count no more within seconds."""
    own_authorizations.end(runtime.backend, found, authorization, now)
