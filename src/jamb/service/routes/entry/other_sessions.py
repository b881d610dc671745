"""Sessions of one browser in several directories: one is used, the others wait until it switches to them.

They lie in a cookie of their own, of the same kind as that of the session. To wait is no use: they are idle meanwhile,
and end as the policy of their directory says. They wait for one person: where somebody signs in who may be another than
whoever used the browser before, none is kept.
"""

from __future__ import annotations

from datetime import datetime
from typing import NamedTuple

from fastapi import Request, Response
from sqlmodel import Session

from jamb.actions.entry import sessions
from jamb.service.callers import CookieNames, cookie_names
from jamb.service.runtime import Runtime
from jamb.wire.directory.people import OtherSession

# Besides the one that is used: each is looked up where they are told. The one that was used longest ago goes first.
MOST_OTHERS = 4
# No cookie of a session has it.
_BETWEEN = "."


class Held(NamedTuple):
    """A session that this browser holds, and its cookie."""

    cookie: str
    session: sessions.ConsoleSession


def cookies_of(request: Request, runtime: Runtime) -> list[str]:
    """Return the cookies of all sessions of a browser; the one that is used comes first."""
    names = cookie_names(runtime)
    sent = (request.cookies.get(names.session, ""), *request.cookies.get(names.others, "").split(_BETWEEN))
    return list(dict.fromkeys(cookie for cookie in sent if cookie))[: MOST_OTHERS + 1]


def others_of(request: Request, runtime: Runtime, used: sessions.ConsoleSession, now: datetime) -> list[Held]:
    """Return the sessions of a browser in other directories than that of the one that is used, each live."""
    found: dict[str, Held] = {}
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        for cookie in cookies_of(request, runtime):
            held = sessions.find_session(session, runtime.backend, cookie, now, in_use=False)
            if held is not None and held.digest != used.digest and held.directory.slug != used.directory.slug:
                found.setdefault(held.directory.slug, Held(cookie, held))
    return list(found.values())[:MOST_OTHERS]


def kept_beside(request: Request, runtime: Runtime, made: sessions.ConsoleSession, now: datetime) -> list[Held]:
    """Return the sessions that a browser goes on to hold when somebody signs in.

    Whoever sits before a session that is live could act in it anyway, and in those that wait. Where none was used any
    more, or another person of the same directory signs in, they may be somebody else: then there are none.
    """
    cookie = request.cookies.get(cookie_names(runtime).session, "")
    with Session(runtime.backend.engine, expire_on_commit=False) as session:
        before = sessions.find_session(session, runtime.backend, cookie, now, in_use=False) if cookie else None
    if before is None or (before.directory.slug == made.directory.slug and before.person.id != made.person.id):
        return []
    return others_of(request, runtime, made, now)


def give_cookie(response: Response, names: CookieNames, name: str, value: str, seconds: float) -> None:
    """Give the browser a cookie that no script reads and no other site sends (RFC 6265bis section 4.1.2)."""
    response.set_cookie(
        name, value, max_age=int(seconds), httponly=True, samesite="strict", secure=names.secure, path="/"
    )


def take_cookie(response: Response, names: CookieNames, name: str) -> None:
    """Let the browser forget a cookie."""
    response.delete_cookie(name, path="/", secure=names.secure, httponly=True, samesite="strict")


def keep_others(response: Response, names: CookieNames, others: list[Held], now: datetime) -> None:
    """Let the browser hold these besides the session that it uses, and no others."""
    if not others:
        take_cookie(response, names, names.others)
        return
    longest = max(held.session.expires_at for held in others) - now
    give_cookie(response, names, names.others, _BETWEEN.join(held.cookie for held in others), longest.total_seconds())


def told(others: list[Held]) -> list[OtherSession]:
    """Return what their person is told of them."""
    return [
        OtherSession(
            directory=held.session.directory.slug,
            directory_name=held.session.directory.name,
            login=held.session.person.login,
        )
        for held in others
    ]
