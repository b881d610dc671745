"""Sessions of the console: sign in, find, sign out."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from functools import cache
from hashlib import sha256
from hmac import compare_digest
from hmac import digest as hmac_digest

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlmodel import Session, col, select

from jamb.actions.people import Person, person_view
from jamb.actions.premises import Directory, Premises, find_directory
from jamb.core.errors import NotSignedIn, TooManyTries
from jamb.store import directories, people, roles
from jamb.store.work import observation

TRIES_BEFORE_BAR = 5
BAR = timedelta(minutes=1)
_HASHER = PasswordHasher()


@dataclass(frozen=True, slots=True)
class ConsoleSession:
    """A signed-in browser: who, where, until when, and the value its changing requests must repeat (CSRF)."""

    person: Person
    directory: Directory
    expires_at: datetime
    csrf: str


def sign_in(premises: Premises, login: str, password: str, now: datetime) -> tuple[str, ConsoleSession]:
    """Open a console session; return the value of its cookie and the session.

    Raises:
        NotSignedIn: login or password is wrong; which one is not said.
        TooManyTries: too many wrong passwords for this login; wait.
    """
    refused = NotSignedIn(
        "Login and password do not match.", next_step="Check both. A steward can give you a new password."
    )
    with observation(premises.engine) as session:
        row = people.by_login(session, login.strip().lower(), lock=True)
        if row is not None and row.barred_until is not None and row.barred_until > now:
            wait = int((row.barred_until - now).total_seconds()) + 1
            raise TooManyTries(
                "Too many wrong passwords for this login.",
                next_step=f"Wait {wait} seconds and try again.",
                retry_after_seconds=wait,
            )
        # An unknown login costs the same time as a known one.
        fits = _fits(row.password_hash if row is not None and row.password_hash else _nobodys_hash(), password)
        if row is not None and not fits:
            _count_failure(row, now)
            session.add(row)
        if row is None or not fits or not row.live or not row.password_hash:
            session.commit()
            raise refused
        row.failed_sign_ins, row.barred_until = 0, None
        session.add(row)
        directory_row = session.get_one(directories.DirectoryRow, row.directory_id)
        directory = find_directory(session, directory_row.slug)
        cookie = secrets.token_urlsafe(32)
        ends = now + timedelta(seconds=directory.policy.session_seconds)
        session.add(people.ConsoleSessionRow(digest=_digest(cookie), person_id=row.id, created_at=now, expires_at=ends))
        person = person_view(row, roles.role_names(session, directory.id, now))
        return cookie, ConsoleSession(person, directory, ends, _csrf(premises, cookie))


def find_session(premises: Premises, cookie: str, now: datetime) -> ConsoleSession | None:
    """Return the session of a cookie, or None if it ended, was never ours, or the person is gone."""
    with Session(premises.engine) as session:
        found = session.exec(
            select(people.ConsoleSessionRow, people.PersonRow, directories.DirectoryRow)
            .join(people.PersonRow, col(people.PersonRow.id) == people.ConsoleSessionRow.person_id)
            .join(directories.DirectoryRow, col(directories.DirectoryRow.id) == people.PersonRow.directory_id)
            .where(people.ConsoleSessionRow.digest == _digest(cookie))
        ).first()
        if found is None or found[0].expires_at <= now or not found[1].live:
            return None
        held, row, place = found
        directory = Directory(place.id, place.slug, place.name, place.domain, place.bounds())
        person = person_view(row, roles.role_names(session, directory.id, now))
        return ConsoleSession(person, directory, held.expires_at, _csrf(premises, cookie))


def sign_out(premises: Premises, cookie: str) -> None:
    with observation(premises.engine) as session:
        row = session.get(people.ConsoleSessionRow, _digest(cookie))
        if row is not None:
            session.delete(row)


def csrf_matches(found: ConsoleSession, presented: str | None) -> bool:
    return presented is not None and compare_digest(found.csrf.encode(), presented.encode())


def _fits(password_hash: str, password: str) -> bool:
    try:
        return _HASHER.verify(password_hash, password)
    except (VerifyMismatchError, InvalidHashError):
        return False


@cache
def _nobodys_hash() -> str:
    return _HASHER.hash(secrets.token_urlsafe(16))


def _count_failure(row: people.PersonRow, now: datetime) -> None:
    row.failed_sign_ins += 1
    if row.failed_sign_ins >= TRIES_BEFORE_BAR:
        row.failed_sign_ins, row.barred_until = 0, now + BAR


def _digest(cookie: str) -> bytes:
    return sha256(cookie.encode()).digest()


def _csrf(premises: Premises, cookie: str) -> str:
    """Return a value bound to the session that only our own pages can read (double submit, keyed)."""
    return hmac_digest(premises.sealer.session_key, cookie.encode(), "sha256").hex()
