"""Where a person is signed in: seen and ended by that person."""

from __future__ import annotations

from datetime import datetime, timedelta
from hashlib import sha256

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.actions.entry.sessions import LONG_AGO, ConsoleSession
from jamb.core.authorization.devices import DeviceState
from jamb.core.authorization.requests import OFFLINE
from jamb.core.directory.policy import BOUNDS
from jamb.core.errors import NotFound
from jamb.store.base.work import observation
from jamb.store.credentials import credentials
from jamb.store.directory import people
from jamb.store.entry import authorizations
from jamb.wire.directory.people import OwnSignIn, OwnSignIns, SignInKind

MOST_SHOWN = 100
# No token of the command line lives longer, whatever the policy was when it was made.
_LONGEST = timedelta(seconds=BOUNDS["person_token_seconds"][1])


def of_person(backend: Backend, found: ConsoleSession, now: datetime) -> OwnSignIns:
    """Return the sign-ins of whoever is signed in."""
    with observation(backend.engine) as session:
        policy = found.directory.policy
        lives, idle = timedelta(seconds=policy.person_token_seconds), timedelta(seconds=policy.session_idle_seconds)
        shown = [
            OwnSignIn(
                id=_id(row.digest),
                kind=SignInKind.BROWSER,
                since=row.created_at,
                seen_at=row.seen_at,
                stays_until=row.expires_at,
                address=row.address,
                user_agent=row.user_agent,
                second_factor=row.second_factor,
                here=row.digest == found.digest,
            )
            for row in people.sessions_of(session, found.person.id, now, now - idle)
        ]
        shown += [
            OwnSignIn(
                id=str(device.id),
                kind=SignInKind.COMMAND_LINE,
                since=device.created_at,
                seen_at=None,
                stays_until=device.created_at + lives,
                address="",
                user_agent="",
                second_factor=False,
                here=False,
            )
            for device in _command_lines(session, found, now - lives)
        ]
        return OwnSignIns(sign_ins=shown[:MOST_SHOWN], total=len(shown))


def end(backend: Backend, found: ConsoleSession, sign_in_id: str, now: datetime) -> None:
    """End one. Raises `NotFound` where it is nobody's, or somebody else's."""
    with backend.ending(now) as session:
        for row in people.sessions_of(session, found.person.id, now, LONG_AGO):
            if _id(row.digest) == sign_in_id:
                _end_browser(session, row, now)
                return
        for device in _command_lines(session, found, now - _LONGEST):
            if str(device.id) == sign_in_id:
                device.ended_at = now
                session.add(device)
                return
    raise NotFound("You have no such sign-in.", next_step="Look at your sign-ins again.")


def end_others(backend: Backend, found: ConsoleSession, now: datetime) -> int:
    """End all but the one that asks; return how many."""
    with backend.ending(now) as session:
        # Also those that are idle: with another policy they would count again.
        browsers = [
            row for row in people.sessions_of(session, found.person.id, now, LONG_AGO) if row.digest != found.digest
        ]
        for row in browsers:
            _end_browser(session, row, now)
        devices = _command_lines(session, found, now - _LONGEST)
        for device in devices:
            device.ended_at = now
            session.add(device)
        return len(browsers) + len(devices)


def _command_lines(session: Session, found: ConsoleSession, since: datetime) -> list[credentials.DeviceRequestRow]:
    return credentials.command_lines(session, found.person.id, DeviceState.SERVED.value, since)


def _end_browser(session: Session, row: people.ConsoleSessionRow, now: datetime) -> None:
    """What was allowed there ends as by signing out there: also what is allowed at this moment."""
    if people.end_session(session, row.digest):
        authorizations.end_of_sign_in(session, row.digest, OFFLINE, now)


def _id(digest: bytes) -> str:
    """Return what a browser's sign-in is named by: not what is kept of its cookie."""
    return sha256(b"sign-in\0" + digest).hexdigest()[:24]
