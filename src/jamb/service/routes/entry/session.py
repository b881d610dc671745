"""Sign in at the console, out again, and answer a waiting device."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from fastapi import Depends, Request, Response
from fastapi.concurrency import run_in_threadpool
from sqlmodel import Session

from jamb.actions.authorization import devices
from jamb.actions.base.lookups import refuse_suspended
from jamb.actions.directory.directories import read_directory
from jamb.actions.entry import own_sign_ins, passkeys, second_factors, sessions
from jamb.actions.entry.tries import guessing
from jamb.core.errors import Forbidden, NotFound, NotSignedIn
from jamb.core.tries import PASSKEY_ADDRESS, Counted
from jamb.service.callers import (
    BegunSession,
    Now,
    TheRuntime,
    TheSession,
    claims_of,
    cookie_names,
    session_in,
    token_of,
)
from jamb.service.http.routing import api_router
from jamb.service.http.senders import address_of, agent_of
from jamb.service.routes.entry.other_sessions import (
    Held,
    cookies_of,
    give_cookie,
    keep_others,
    kept_beside,
    others_of,
    take_cookie,
    told,
)
from jamb.service.runtime import Runtime
from jamb.wire.directory import people as wire

router = api_router("/api/v1", tags=["session"])


def same_origin(request: Request, runtime: TheRuntime) -> None:
    """Refuse a sign-in that another site's page started: it has no session yet whose CSRF value it could repeat."""
    origin = request.headers.get("Origin")
    if origin is not None and origin.lower() not in runtime.settings.own_origins():
        raise Forbidden("Sign-in was started from another site.", next_step="Open the console itself.")


@router.post("/session", dependencies=[Depends(same_origin)])
async def sign_in(
    sent: wire.SignIn, request: Request, response: Response, runtime: TheRuntime, now: Now
) -> wire.Session:
    """Open a console session; the cookie is HttpOnly and SameSite=Strict.

    Where the password fits in several directories, 409 says in which: send it again with one of them. Where the person
    has a second factor, 409 says so: send it again with a code of it.
    """
    names = cookie_names(runtime)
    presented = sessions.Presented(
        sent.login,
        sent.password.get_secret_value(),
        sent.directory,
        address_of(request),
        request.cookies.get(names.device, ""),
        sent.code.get_secret_value(),
        agent_of(request),
    )
    known = sessions.known_device(runtime.backend, presented.device, now) is not None
    async with runtime.turns.turn(presented.address, known=known):
        made = await run_in_threadpool(sessions.sign_in, runtime.backend, presented, now)
    return await run_in_threadpool(enter, request, response, runtime, made, now)


def enter(
    request: Request, response: Response, runtime: Runtime, made: sessions.SignedIn, now: datetime
) -> wire.Session:
    """Give the browser the cookies of its session, and tell it whose it is."""
    others = kept_beside(request, runtime, made.session, now)
    names = cookie_names(runtime)
    lives = (
        (names.session, made.cookie, made.session.directory.policy.session_seconds),
        (names.device, made.device, int(sessions.DEVICE_LIFE.total_seconds())),
    )
    for name, value, seconds in lives:
        give_cookie(response, names, name, value, seconds)
    keep_others(response, names, others, now)
    return session_answer(made.session, others)


@router.get("/session")
def read_session(request: Request, runtime: TheRuntime, now: Now) -> wire.Session:
    """Who is signed in."""
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        found = sessions.with_roles(session, session_in(session, request, runtime, now, unfinished=True), now)
    several = len(cookies_of(request, runtime)) > 1
    return session_answer(found, others_of(request, runtime, found, now) if several else [])


@router.put("/session/directory")
def switch_directory(
    sent: wire.DirectoryWanted, request: Request, response: Response, found: BegunSession, runtime: TheRuntime, now: Now
) -> wire.Session:
    """Go on in another directory in which this browser is signed in; the sign-in here waits."""
    others = others_of(request, runtime, found, now)
    wanted = next((held for held in others if held.session.directory.slug == sent.directory), None)
    if wanted is None:
        raise NotFound(f"This browser is not signed in to “{sent.directory}”.", next_step="Sign in there.")
    refuse_suspended(wanted.session.directory)
    names = cookie_names(runtime)
    left = [Held(request.cookies[names.session], found), *(held for held in others if held is not wanted)]
    keep_others(response, names, left, now)
    give_cookie(response, names, names.session, wanted.cookie, (wanted.session.expires_at - now).total_seconds())
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        return session_answer(sessions.with_roles(session, wanted.session, now), left)


@router.delete("/session", status_code=204)
def sign_out(request: Request, response: Response, found: BegunSession, runtime: TheRuntime, now: Now) -> None:
    """End the sign-ins of this browser, in every directory. Applications that were signed in to by them are told."""
    assert found is not None
    names = cookie_names(runtime)
    # The one that is used comes last: where one cannot be ended now, whoever tries again is still let in.
    for cookie in reversed(cookies_of(request, runtime)):
        sessions.sign_out(runtime.backend, cookie, now)
    for name in (names.session, names.others):
        take_cookie(response, names, name)


@router.put("/session/password", status_code=204)
async def change_password(
    sent: wire.OwnPassword, request: Request, found: TheSession, runtime: TheRuntime, now: Now
) -> None:
    """Choose a password of one's own: nobody else knows it then, and every other sign-in of the person ends."""
    address, cookie = address_of(request), request.cookies[cookie_names(runtime).session]
    async with runtime.turns.turn(address, known=True):
        await run_in_threadpool(
            sessions.change_own_password,
            runtime.backend,
            found,
            cookie,
            sent.current.get_secret_value(),
            sent.password.get_secret_value(),
            address,
            now,
        )


@router.delete("/directories/{directory}/sign-in", status_code=204)
def end_sign_in(directory: str, request: Request, runtime: TheRuntime, now: Now) -> None:
    """End the sign-in that the presented token belongs to (the command line's sign-out)."""
    sent = token_of(request)
    if sent is None:
        raise NotSignedIn("No token was sent.")
    with Session(runtime.backend.engine) as session:
        claims = claims_of(session, runtime, read_directory(runtime.backend, directory), request, sent, now)
    if "sid" not in claims:
        raise Forbidden("A client that acts as itself is not signed in.", next_step="Withdraw its secret instead.")
    devices.sign_out(runtime.backend, UUID(claims["sid"]), now)


@router.get("/session/sign-ins")
def list_sign_ins(found: BegunSession, runtime: TheRuntime, now: Now) -> wire.OwnSignIns:
    """Where you are signed in: browsers, the one used last first, then command lines."""
    return own_sign_ins.of_person(runtime.backend, found, now)


@router.delete("/session/sign-ins/{sign_in}", status_code=204)
def end_own_sign_in(sign_in: str, found: BegunSession, runtime: TheRuntime, now: Now) -> None:
    """End one of your sign-ins, wherever it is."""
    own_sign_ins.end(runtime.backend, found, sign_in, now)


@router.delete("/session/sign-ins")
def end_other_sign_ins(found: BegunSession, runtime: TheRuntime, now: Now) -> wire.SignInsEnded:
    """End all your sign-ins but this one."""
    return wire.SignInsEnded(ended=own_sign_ins.end_others(runtime.backend, found, now))


@router.get("/session/second-factor")
def read_second_factor(found: BegunSession, runtime: TheRuntime) -> wire.OwnSecondFactor:
    """Whether you sign in with a second factor, and how many recovery codes are left."""
    return second_factors.read(runtime.backend, found)


@router.post("/session/second-factor")
def begin_second_factor(found: BegunSession, runtime: TheRuntime, now: Now) -> wire.SecondFactorKey:
    """Make the key for a device of yours, shown once. It counts when a code of it was typed."""
    return second_factors.begin(runtime.backend, found, now)


@router.put("/session/second-factor")
def confirm_second_factor(
    sent: wire.FactorCode, found: BegunSession, runtime: TheRuntime, now: Now
) -> wire.RecoveryCodes:
    """Type the code that the device shows: from now on it is wanted at each sign-in. Other sign-ins of yours end."""
    return second_factors.confirm(runtime.backend, found, sent.code.get_secret_value(), now)


@router.post("/session/second-factor/recovery-codes")
def renew_recovery_codes(
    sent: wire.FactorCode, found: BegunSession, runtime: TheRuntime, now: Now
) -> wire.RecoveryCodes:
    """Other recovery codes in place of those that are left."""
    return second_factors.renew_codes(runtime.backend, found, sent.code.get_secret_value(), now)


@router.post("/session/second-factor/removal", status_code=204)
def remove_second_factor(sent: wire.FactorCode, found: BegunSession, runtime: TheRuntime, now: Now) -> None:
    """Sign in without a second factor from now on, where the policy does not want one of you."""
    second_factors.take_off(runtime.backend, found, sent.code.get_secret_value(), now)


@router.post("/session/passkeys/options")
def begin_passkey(found: BegunSession, runtime: TheRuntime, now: Now) -> wire.PasskeyOptions:
    """What a browser needs to make a passkey for you."""
    sessions.require_confirmed(found, sessions.FRESH, now)
    return wire.PasskeyOptions(options=passkeys.begin(runtime.backend, found, now))


@router.post("/session/passkeys", status_code=201)
def add_passkey(sent: wire.NewPasskey, found: BegunSession, runtime: TheRuntime, now: Now) -> wire.PasskeyAdded:
    """Keep the passkey that the browser made: you sign in by it from now on. Other sign-ins of yours end."""
    sessions.require_confirmed(found, sessions.FRESH, now)
    return passkeys.add(runtime.backend, found, sent.name, _shown(runtime, sent), now)


@router.delete("/session/passkeys/{passkey}", status_code=204)
def remove_passkey(passkey: UUID, found: BegunSession, runtime: TheRuntime, now: Now) -> None:
    """Take a passkey off. Other sign-ins of yours end."""
    sessions.require_confirmed(found, sessions.FRESH, now)
    passkeys.remove(runtime.backend, found, passkey, now)


@router.post("/session/passkey/options", dependencies=[Depends(same_origin)])
def ask_for_passkey(runtime: TheRuntime, now: Now) -> wire.PasskeyOptions:
    """What a browser needs to show a passkey of whoever signs in."""
    return wire.PasskeyOptions(options=passkeys.challenge_for_sign_in(runtime.backend, now))


@router.post("/session/passkey", dependencies=[Depends(same_origin)])
async def sign_in_by_passkey(
    sent: wire.ShownPasskey, request: Request, response: Response, runtime: TheRuntime, now: Now
) -> wire.Session:
    """Open a console session by a passkey, without a password."""
    visitor, shown = sessions.Visitor(address_of(request), agent_of(request)), _shown(runtime, sent)

    def shown_in() -> sessions.SignedIn:
        with guessing(runtime.backend, Counted(PASSKEY_ADDRESS, (visitor.address,)), now):
            return passkeys.sign_in(runtime.backend, shown, visitor, now)

    made = await run_in_threadpool(shown_in)
    return await run_in_threadpool(enter, request, response, runtime, made, now)


@router.post("/session/confirmation", status_code=204)
async def confirm_session(
    sent: wire.Confirmation, request: Request, found: BegunSession, runtime: TheRuntime, now: Now
) -> None:
    """Show by your password, and a code where you have a second factor, that it is still you."""
    address, password, code = address_of(request), sent.password.get_secret_value(), sent.code.get_secret_value()
    async with runtime.turns.turn(address, known=True):
        await run_in_threadpool(sessions.confirm, runtime.backend, found, password, code, address, now)


@router.post("/session/confirmation/passkey", status_code=204)
def confirm_by_passkey(
    sent: wire.ShownPasskey, request: Request, found: BegunSession, runtime: TheRuntime, now: Now
) -> None:
    """Show by a passkey that it is still you."""
    with guessing(runtime.backend, Counted(PASSKEY_ADDRESS, (address_of(request),)), now):
        passkeys.confirm(runtime.backend, found, _shown(runtime, sent), now)


def _shown(runtime: Runtime, sent: wire.ShownPasskey) -> passkeys.Shown:
    return passkeys.Shown(sent.credential, runtime.settings.own_origins())


@router.post("/devices/lookup")
def look_at_device(sent: wire.DeviceLookup, found: TheSession, runtime: TheRuntime, now: Now) -> wire.WaitingDevice:
    """What waits behind a code shown on a device. The code travels in the body, never in an address that is logged."""
    return devices.look(runtime.backend, found.directory, sent.user_code, found.person.id, now)


@router.post("/devices/decision", status_code=204)
def decide_on_device(sent: wire.DeviceDecision, found: TheSession, runtime: TheRuntime, now: Now) -> None:
    """Let the device act for you, or not."""
    chosen = frozenset(sent.permissions)
    devices.answer(runtime.backend, found, sent.user_code, chosen, approve=sent.approve, now=now)


def session_answer(found: sessions.ConsoleSession, others: list[Held]) -> wire.Session:
    return wire.Session(
        person=found.person,
        directory=found.directory.slug,
        directory_name=found.directory.name,
        expires_at=found.expires_at,
        csrf=found.csrf,
        own_password=found.own_password,
        factor_due=found.factor_due,
        others=told(others),
    )
