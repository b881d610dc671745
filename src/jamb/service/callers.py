"""Who calls Jamb's own API: a bearer token (RFC 6750, RFC 9068) or a console session, then the one decision."""

from __future__ import annotations

import re
from collections.abc import AsyncIterator, Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from typing import Annotated, Any, NamedTuple
from uuid import UUID

from fastapi import Depends, Request
from sqlmodel import Session

from jamb import jose
from jamb.actions.base.act import NOTHING_YET, Act, Caller
from jamb.actions.base.backend import console_client_id
from jamb.actions.base.lookups import find_directory, refuse_suspended
from jamb.actions.entry import sessions
from jamb.actions.entry.access import admit, client_meant
from jamb.core import own_api
from jamb.core.access import TokenFacts
from jamb.core.directory.directories import Directory
from jamb.core.errors import FactorWanted, Forbidden, NotSignedIn
from jamb.core.jwt import read_signed
from jamb.core.reach.details import token_reach
from jamb.core.text import UnfitText, line_fault
from jamb.guard.dpop import BadProof
from jamb.guard.verify import REQUIRED
from jamb.service.dpop import SentToken, require_possession
from jamb.service.http.middleware import AGED, CALLER
from jamb.service.http.routing import DOOR
from jamb.service.http.versions import IfMatch, IfNoneMatch, versions_in
from jamb.service.idempotency import OnceKey, body_of, once
from jamb.service.keys import algorithm_of
from jamb.service.runtime import Runtime
from jamb.store.connections.lease import Lease
from jamb.store.connections.standby import AgedRead
from jamb.store.entry import admission

CSRF_HEADER = "X-Jamb-CSRF"
_SAFE = frozenset({"GET", "HEAD", "OPTIONS"})
_MAX_AGE = re.compile(r"(?:^|[,\s])max-age\s*=\s*\"?(\d{1,9})", re.IGNORECASE)
_SIGN_IN = "Sign in at the console, run `jamb sign-in`, or send an access token of this directory."


class CookieNames(NamedTuple):
    """`secure`: sent by https alone; then its name keeps it to this host (RFC 6265bis section 4.1.3.2).

    `others`: of the sessions in other directories (`service.routes.entry.other_sessions`).
    """

    session: str
    others: str
    device: str
    secure: bool


def cookie_names(runtime: Runtime) -> CookieNames:
    secure = runtime.settings.base_url.startswith("https://")
    prefix = "__Host-" if secure else ""
    return CookieNames(f"{prefix}jamb_session", f"{prefix}jamb_sessions", f"{prefix}jamb_device", secure)


def runtime_of(request: Request) -> Runtime:
    runtime: Runtime = request.app.state.runtime
    return runtime


async def moment_now(runtime: Annotated[Runtime, Depends(runtime_of)]) -> datetime:
    return runtime.clock.now()


TheRuntime = Annotated[Runtime, Depends(runtime_of)]
Now = Annotated[datetime, Depends(moment_now)]
TheBody = Annotated[bytes, Depends(body_of)]


async def seat_of(request: Request) -> AsyncIterator[None]:
    async with runtime_of(request).seats.seat():
        yield


# One object for all: so a call that two guards look at takes one seat.
Seat = Annotated[None, Depends(seat_of, scope="function")]


def session_in(
    session: Session, request: Request, runtime: Runtime, now: datetime, *, unfinished: bool = False
) -> sessions.ConsoleSession:
    """Return the console session of the request's cookie; changes must repeat its CSRF value.

    Args:
        unfinished: whether one does of somebody who must set up a second factor first.
    """
    cookie = request.cookies.get(cookie_names(runtime).session)
    found = sessions.find_session(session, runtime.backend, cookie, now) if cookie else None
    if found is None:
        raise NotSignedIn("You are not signed in.", next_step="Sign in.")
    if request.method not in _SAFE and not sessions.csrf_matches(found, request.headers.get(CSRF_HEADER)):
        raise Forbidden(
            f"The change did not carry the session's {CSRF_HEADER} value.", next_step="Reload the page and try again."
        )
    if found.factor_due and not unfinished:
        raise FactorWanted(
            "Whoever has a role here signs in with a second factor.",
            next_step="Set one up on the page of your password; if you have one, sign out and in again.",
        )
    return found


def begun_session_of(request: Request, runtime: TheRuntime, now: Now) -> sessions.ConsoleSession:
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        found = session_in(session, request, runtime, now, unfinished=True)
        return sessions.with_roles(session, found, now)


# Of somebody who may have to set up a second factor first.
BegunSession = Annotated[sessions.ConsoleSession, Depends(begun_session_of)]


def session_of(request: Request, runtime: TheRuntime, now: Now) -> sessions.ConsoleSession:
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        return session_in(session, request, runtime, now)


TheSession = Annotated[sessions.ConsoleSession, Depends(session_of)]


def token_of(request: Request) -> SentToken | None:
    """Return the access token of the Authorization header, if there is one."""
    header = request.headers.get("Authorization")
    if header is None:
        return None
    scheme, _, token = header.partition(" ")
    if scheme.lower() not in {"bearer", "dpop"} or not token:
        raise NotSignedIn("The Authorization header is not a bearer token.", next_step=_SIGN_IN)
    return SentToken(scheme.lower(), token.strip())


def claims_of(
    session: Session, runtime: Runtime, directory: Directory, request: Request, sent: SentToken, now: datetime
) -> Mapping[str, Any]:
    """Return the verified claims of a token for this directory's own API, or raise `NotSignedIn` with what is wrong.

    RFC 9068 section 4: type, signature, issuer, audience and lifetime; only the algorithm that we sign with. RFC 9449
    section 7: of a token that is bound to a key, that whoever sends it holds that key.
    """
    claims = _verified(runtime, directory, sent.token, now)
    urls = [
        f"{issuer.removesuffix(f'/d/{directory.slug}')}{request.url.path}"
        for issuer in runtime.backend.issuers(directory.slug, now)
    ]
    try:
        require_possession(session, runtime, request, sent, claims, urls)
    except BadProof as error:
        step = "Send the token with the key that it is bound to, and a new proof."
        raise NotSignedIn(f"The proof of the token's key is not good: {error}.", next_step=step) from error
    return claims


def _verified(runtime: Runtime, directory: Directory, token: str, now: datetime) -> Mapping[str, Any]:
    try:
        read, claims = read_signed(token)
        header = read.header
        kind, kid = header.get("typ"), header.get("kid")
        if kind not in ("at+jwt", "application/at+jwt"):
            raise NotSignedIn("The token is not an access token of this directory.", next_step=_SIGN_IN)
        fit = isinstance(kid, str) and not line_fault(kid)
        key = runtime.keyring.public(str(kid), str(directory.id)) if fit else None
        if key is None:
            raise NotSignedIn("The token was not issued by this directory.", next_step=_SIGN_IN)
        if not jose.fits(read, algorithm_of(key), key):
            raise jose.NotGood("its signature does not fit")
        jose.judge(
            claims,
            runtime.backend.issuers(directory.slug, now),
            runtime.backend.own_identifiers(directory.slug, now),
            now.timestamp(),
            required=REQUIRED,
            # In the second in which something was taken away, ours are of the next one (`core.tokens`).
            ahead=True,
        )
    except jose.Expired as error:
        raise NotSignedIn("The token has run out.", next_step=_SIGN_IN) from error
    except jose.WrongAudience as error:
        raise NotSignedIn("The token is for another resource.", next_step=_SIGN_IN) from error
    except (jose.NotGood, UnfitText) as error:
        raise NotSignedIn("The token does not verify.", next_step=_SIGN_IN) from error
    return claims


class Visit(NamedTuple):
    """Who calls which directory, before it is decided what they may do there.

    Attributes:
        known: what was read of them on the way, if they are known here.
        signed_in: the console session.
    """

    directory: Directory
    caller: Caller
    known: admission.Known | None
    signed_in: sessions.ConsoleSession | None = None


def visit_in(session: Session, slug: str, request: Request, runtime: Runtime, now: datetime) -> Visit:
    """Return who calls, by token if there is one, else by session. What they may do is not yet decided."""
    sent = token_of(request)
    if sent is None:
        found = session_in(session, request, runtime, now)
        here = found.directory if found.directory.slug == slug else find_directory(session, slug)
        refuse_suspended(here)
        return Visit(here, Caller(console_client_id(found.directory.slug), found.person.id), found.known, found)
    named = _named(session, slug, sent.token, now)
    directory = named.directory.value() if named is not None else find_directory(session, slug)
    claims = claims_of(session, runtime, directory, request, sent, now)
    refuse_suspended(directory)
    facts = TokenFacts(
        frozenset(str(claims.get("scope", "")).split()),
        datetime.fromtimestamp(claims["iat"], UTC),
        token_reach(claims.get("authorization_details", ())),
    )
    known = named.known if named is not None else None
    if "sid" not in claims:
        return Visit(directory, Caller(claims["client_id"], None, facts), known)
    if named is None or not named.stands:
        raise NotSignedIn("This sign-in was ended.", next_step=_SIGN_IN)
    return Visit(directory, Caller(claims["client_id"], UUID(claims["sub"]), facts), known)


def _named(session: Session, slug: str, token: str, now: datetime) -> admission.ByToken | None:
    """Read whom a token names, before it is verified: all in one statement. None: whoever it is, they are not here."""
    try:
        _, claims = read_signed(token)
        client_id, person_id, sign_in = claims.get("client_id"), None, None
        if "sid" in claims:
            person_id, sign_in = UUID(str(claims.get("sub"))), UUID(str(claims["sid"]))
    except (UnfitText, ValueError):
        return None
    if not isinstance(client_id, str) or line_fault(client_id):
        return None
    return admission.by_token(session, slug, client_id, person_id, sign_in, own_api.NAME, now)


def _aged(request: Request, runtime: Runtime, *, heavy: bool) -> AgedRead | None:
    """Return the standby at which a call may read: a heavy one always, others up to the age that their caller allows.

    A request says by `max-age` how old an answer it takes, and the answer by `Age` how old it may be (RFC 9111 sections
    5.2.1.1 and 5.1).
    """
    if runtime.standby is None or request.method not in _SAFE:
        return None
    allowed = _MAX_AGE.search(request.headers.get("Cache-Control", ""))
    if allowed is None and not heavy:
        return None
    made = AgedRead(runtime.standby, float(allowed[1]) if allowed is not None else runtime.standby.seconds)
    request.scope[AGED] = made
    return made


@dataclass(frozen=True, slots=True)
class Door:
    """A call of Jamb's own API before it is let in.

    Attributes:
        heavy: whether it reads what is a burden, and may be a little old.
        key, body: of a change that is done once for its Idempotency-Key; None: it named none.
        versions: those that its caller saw of what it changes; None: any is meant.
    """

    runtime: Runtime
    request: Request
    directory: str
    operation: str
    now: datetime
    heavy: bool
    key: str | None = None
    body: bytes = b""
    versions: tuple[str, ...] | None = None

    @contextmanager
    def opened(self) -> Iterator[Act]:
        """Let the call in for the block; who calls, what they may do and the work share one connection.

        Raises:
            NotSignedIn, Forbidden, NotFound: it is not let in. DoneBefore: its key was used.
        """
        request, runtime, now = self.request, self.runtime, self.now
        lease = Lease(runtime.backend.engine)
        try:
            with Session(lease.open(), expire_on_commit=False) as session:
                here, caller, known, signed_in = visit_in(session, self.directory, request, runtime, now)
                if signed_in is not None and here.policy.confirm_minutes and self.operation in own_api.HEAVY:
                    sessions.require_confirmed(signed_in, timedelta(minutes=here.policy.confirm_minutes), now)
                # Jamb's own objects are the clients: an owner is let in to theirs alone.
                about = client_meant(session, here, request.path_params)
                act = admit(session, runtime.backend, here, caller, self.operation, now, about, known)
                request.scope[CALLER] = act.actor.id
                if self.key is not None:
                    act = once(session, act, self.key, request, self.body)
            aged = _aged(request, runtime, heavy=self.heavy)
            yield replace(act, lease=lease, aged=aged, if_match=self.versions)
        finally:
            lease.close()


def may(operation: str, *, heavy: bool = False, edits: bool = False) -> Any:
    """Return the guard of a route: lets a caller in who may do this operation of Jamb's own API.

    `edits`: what it changes has a version, which If-Match may name. `heavy`: a read that is a burden, and may be a
    little old: at a standby, where there is one. What changes something is done once for each Idempotency-Key.

    The guard only notes who calls; the route opens it in the thread of its work (`service.http.routing`).
    """

    async def guard(directory: str, request: Request, _seat: Seat) -> Door:
        runtime = runtime_of(request)
        door = request.scope[DOOR] = Door(runtime, request, directory, operation, runtime.clock.now(), heavy)
        return door

    async def guard_once(
        request: Request, body: TheBody, key: OnceKey = None, door: Door = Depends(guard, scope="function")
    ) -> Door:
        made = request.scope[DOOR] = replace(door, key=key, body=body) if key is not None else door
        return made

    async def guard_version(
        if_match: IfMatch = None, if_none_match: IfNoneMatch = None, door: Door = Depends(guard_once, scope="function")
    ) -> Door:
        if if_none_match is not None:
            return replace(door, versions=NOTHING_YET)
        return replace(door, versions=versions_in(if_match)) if if_match is not None else door

    wanted: Callable[..., Any] = guard_version if edits else guard_once if operation in own_api.CHANGES else guard
    wanted.__dict__["operation"] = operation
    return Depends(wanted, scope="function")
