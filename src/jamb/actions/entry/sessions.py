"""Sessions of the console: sign in, find, sign out."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, replace
from datetime import UTC, datetime, timedelta
from functools import cache
from hashlib import sha256
from hmac import compare_digest
from hmac import digest as hmac_digest
from uuid import UUID

from argon2 import PasswordHasher
from argon2.exceptions import InvalidHashError, VerifyMismatchError
from sqlmodel import Session

from jamb.actions.base.backend import CONSOLE, Backend
from jamb.actions.base.lookups import refuse_suspended
from jamb.actions.base.passwords import check_password
from jamb.actions.base.views import person_view
from jamb.actions.entry.factor_codes import is_good, is_wanted
from jamb.actions.entry.tries import too_many
from jamb.core import own_api
from jamb.core.authorization.requests import OFFLINE
from jamb.core.directory.directories import Directory
from jamb.core.errors import BadInput, CodeWanted, ConfirmationWanted, Forbidden, NotSignedIn, SeveralDirectories
from jamb.core.tries import sign_in_limits
from jamb.store.base.work import Actor, observation
from jamb.store.credentials.credentials import end_sign_ins
from jamb.store.directory import directories, people, roles, second_factors
from jamb.store.entry import admission, authorizations
from jamb.store.entry.tries import count_try, take_back_try
from jamb.wire.directory.people import Person

# How long a device that signed in once is known by, and how often a session says that it is used.
LONG_AGO = datetime(2000, 1, 1, tzinfo=UTC)
DEVICE_LIFE = timedelta(days=180)
# For changes of how oneself signs in: whoever finds a browser open does not stay for good.
FRESH = timedelta(minutes=10)
SEEN_EVERY = timedelta(minutes=1)
_HASHER = PasswordHasher()


@dataclass(frozen=True, slots=True)
class ConsoleSession:
    """A signed-in browser: who, where, until when, and the value its changing requests must repeat (CSRF).

    `own_password`: whether the person chose their password themself.
    `began_at`: when they signed in. `digest`: of its cookie, by which it is kept. `second_factor`: whether they
    signed in with one, `passkey`: that it was a passkey; `factor_due`: whether the policy wants one of them first.
    `provider`: the outside provider by which they signed in; empty: by none.
    `confirmed_at`: when they last showed that it is they: by signing in, or after that.
    `known`: what was read of the person and the console in the same statement; None: they signed in just now.
    """

    person: Person
    directory: Directory
    expires_at: datetime
    csrf: str
    own_password: bool = True
    began_at: datetime = LONG_AGO
    digest: bytes = b""
    second_factor: bool = False
    factor_due: bool = False
    passkey: bool = False
    confirmed_at: datetime = LONG_AGO
    provider: str = ""
    known: admission.Known | None = None


@dataclass(frozen=True, slots=True)
class Visitor:
    """From where somebody signs in, and with which program."""

    address: str
    user_agent: str = ""


@dataclass(frozen=True, slots=True)
class Presented:
    """What comes with a sign-in. `directory`: empty: those with the login's domain. `device`: of before, or empty.

    `code`: of the second factor; empty: none yet.
    """

    login: str
    password: str
    directory: str
    address: str
    device: str
    code: str = ""
    user_agent: str = ""


@dataclass(frozen=True, slots=True)
class SignedIn:
    """`cookie`: of the session; `device`: by which the same browser is known the next time."""

    cookie: str
    device: str
    session: ConsoleSession


@dataclass(frozen=True, slots=True)
class _Candidate:
    """Somebody of the login that was presented, as they were when they were looked up."""

    person_id: UUID
    password_hash: str | None
    slug: str
    directory_name: str


def sign_in(backend: Backend, presented: Presented, now: datetime) -> SignedIn:
    """Open a console session.

    1. count the try, and turn away who has tried too often
    2. find who may be meant: one of a directory that was named, or those of the directories with the login's domain
    3. stretch the password, outside of any transaction
    4. of several that fit the person chooses
    5. who has a second factor types a code of it; then they are signed in

    Raises:
        NotSignedIn: login or password is wrong; which one is not said.
        TooManyTries: too many wrong passwords for this login or from this address, or too many at this moment.
        SeveralDirectories: the password fits in more than one directory.
        CodeWanted: the password fits, and a code is wanted with it.
    """
    login = presented.login.strip().lower()
    known = _known_for(backend, login, presented.device, now)
    counted = sign_in_limits(login, presented.address, known)
    with observation(backend.engine) as session:
        until = count_try(session, backend.sealer.session_key, counted, now)
        candidates = [] if until is not None else _candidates(session, login, presented.directory.strip().lower())
    if until is not None:
        raise too_many(until, now, "wrong passwords")
    hashes = [candidate.password_hash or _nobodys_hash() for candidate in candidates] or [_nobodys_hash()]
    fits = backend.hashing.run(
        lambda: [_fits(password_hash, presented.password) for password_hash in hashes],
        presented.address,
        known=known is not None,
    )
    fitting = [one for one, fit in zip(candidates, fits, strict=False) if fit and one.password_hash]
    if len(fitting) > 1:
        with observation(backend.engine) as session:
            take_back_try(session, backend.sealer.session_key, counted)
        raise SeveralDirectories.of({one.slug: one.directory_name for one in fitting})
    with observation(backend.engine) as session:
        found = _still_there(session, fitting[0]) if fitting else None
        if found is not None:
            with_factor = _second_factor(session, backend, found, presented.code, now)
            take_back_try(session, backend.sealer.session_key, counted)
            if with_factor:
                # Of the try that asked for the code, too. One without it takes none off: it would pay for guesses.
                take_back_try(session, backend.sealer.session_key, counted)
            visitor = Visitor(presented.address, presented.user_agent)
            return opened(session, backend, found, visitor, now, second_factor=with_factor)
    raise NotSignedIn(
        "Login and password do not match.",
        next_step="Check both, and name the directory if its domain is not your login's. "
        "A steward can give you a new password.",
    )


def _second_factor(session: Session, backend: Backend, row: people.PersonRow, code: str, now: datetime) -> bool:
    """Tell whether a person has a second factor, the code of which is right.

    Raises:
        CodeWanted: none was sent. NotSignedIn: it is wrong.
    """
    factor = second_factors.held(session, row.id, lock=True)
    if not is_wanted(session, factor, row.id):
        return False
    device = factor is not None and factor.confirmed_at is not None
    if not code:
        step = "Type the one your device shows now." if device else "Use your passkey, or type a recovery code."
        raise CodeWanted("Your second factor is wanted too.", next_step=step)
    if not is_good(session, backend, row.id, factor, code, now):
        step = "Type the one that the device shows now, or a recovery code; each counts once."
        raise NotSignedIn("The code is not right.", next_step=step if device else "Type one of your recovery codes.")
    return True


def change_own_password(
    backend: Backend, signed_in: ConsoleSession, cookie: str, current: str, wanted: str, address: str, now: datetime
) -> None:
    """Put a password of one's own in place of the one that one has; every other sign-in of the person ends.

    From then on nobody else can act as them: a password that somebody else chose, that person knows.

    Raises:
        BadInput: the new one is too short, guessed early, or the old one. Forbidden: the current one is wrong.
        TooManyTries: too many wrong ones.
    """
    check_password(wanted, signed_in.person.login, signed_in.person.name, signed_in.directory.name)
    if wanted == current:
        raise BadInput.field("password", "(not shown)", "another password than the current one")
    counted = sign_in_limits(signed_in.person.login, address, None)
    with observation(backend.engine) as session:
        until = count_try(session, backend.sealer.session_key, counted, now)
        known = session.get_one(people.PersonRow, signed_in.person.id).password_hash
    if until is not None:
        raise too_many(until, now, "wrong passwords")
    wrong = Forbidden("The current password is wrong.", next_step="Check it. A steward can give you a new one.")
    if not backend.hashing.run(lambda: _fits(known or _nobodys_hash(), current), address):
        raise wrong
    stretched = backend.hashing.run(lambda: _HASHER.hash(wanted), address)
    directory = signed_in.directory
    actor = Actor("person", str(signed_in.person.id), signed_in.person.name, "Jamb console")
    with backend.change(directory, actor, now) as unit:
        row = locked_person(unit.session, signed_in)
        if row.password_hash != known:
            # Somebody chose another meanwhile.
            raise wrong
        take_back_try(unit.session, backend.sealer.session_key, counted)
        row.password_hash, row.password_set_by = stretched, ""
        unit.session.add(row)
        people.end_sessions(unit.session, row.id, but=_digest(cookie))
        end_sign_ins(unit.session, row.id, now)
        subject = {"kind": "person", "id": str(row.id), "name": row.name}
        unit.enter("person.changed", subject, after={"password": "chosen by themself"})


def _candidates(session: Session, login: str, slug: str) -> list[_Candidate]:
    rows = people.signing_in(session, login, slug)
    return [_Candidate(row.id, row.password_hash, place.slug, place.name) for row, place in rows]


def _still_there(session: Session, one: _Candidate) -> people.PersonRow | None:
    """Return the person, unless something changed while the password was stretched, or they may not act."""
    row = people.held_still(session, one.person_id)
    if row is None or not row.active or row.password_hash != one.password_hash:
        return None
    return row


def refuse_signed_out(session: Session, found: ConsoleSession) -> None:
    """Raise `NotSignedIn` where a session was ended since it was found; it stays for the rest of the transaction."""
    if not people.still_signed_in(session, found.person.id, found.digest):
        raise NotSignedIn("You were signed out meanwhile.", next_step="Sign in again.")


def locked_person(session: Session, found: ConsoleSession) -> people.PersonRow:
    """Return the person of a session, locked: how they sign in is changed by one after the other.

    Raises:
        NotSignedIn: the session was ended since it was found.
    """
    row = session.get_one(people.PersonRow, found.person.id, with_for_update=True)
    refuse_signed_out(session, found)
    return row


def find_directory_of(session: Session, row: people.PersonRow) -> Directory:
    return session.get_one(directories.DirectoryRow, row.directory_id).value()


def opened(
    session: Session,
    backend: Backend,
    row: people.PersonRow,
    visitor: Visitor,
    now: datetime,
    *,
    second_factor: bool,
    passkey: bool = False,
    provider: str = "",
) -> SignedIn:
    """Open a console session for somebody who has shown who they are."""
    directory = find_directory_of(session, row)
    refuse_suspended(directory)
    cookie = secrets.token_urlsafe(32)
    ends = now + timedelta(seconds=directory.policy.session_seconds)
    session.add(
        people.ConsoleSessionRow(
            digest=_digest(cookie),
            person_id=row.id,
            created_at=now,
            seen_at=now,
            expires_at=ends,
            second_factor=second_factor,
            passkey=passkey,
            provider=provider,
            address=visitor.address,
            user_agent=visitor.user_agent,
        )
    )
    person = person_view(row, roles.role_names(session, directory.id, now, row.id))
    own = not row.password_set_by
    due = _wants_more(directory, second_factor=second_factor, passkey=passkey) and bool(person.roles)
    begun = ConsoleSession(
        person,
        directory,
        ends,
        _csrf(backend, cookie),
        own,
        now,
        _digest(cookie),
        second_factor,
        due,
        passkey,
        now,
        provider,
    )
    return SignedIn(cookie, _device(backend, row.login, secrets.token_urlsafe(16), now), begun)


def _wants_more(directory: Directory, *, second_factor: bool, passkey: bool) -> bool:
    """Tell whether the policy wants more of whoever has a role than they showed."""
    policy = directory.policy
    return (policy.second_factor and not second_factor) or (policy.passkey and not passkey)


def confirm(backend: Backend, found: ConsoleSession, password: str, code: str, address: str, now: datetime) -> None:
    """Note that whoever is signed in showed by password, and code where they have one, that it is still they.

    Raises:
        Forbidden: the password is wrong. CodeWanted: it fits, and a code is wanted. NotSignedIn: the code is wrong.
        TooManyTries: too many wrong ones.
    """
    counted = sign_in_limits(found.person.login, address, None)
    with observation(backend.engine) as session:
        until = count_try(session, backend.sealer.session_key, counted, now)
        kept = session.get_one(people.PersonRow, found.person.id).password_hash or _nobodys_hash()
    if until is not None:
        raise too_many(until, now, "wrong passwords")
    if not backend.hashing.run(lambda: _fits(kept, password), address):
        raise Forbidden("The password is wrong.", next_step="Check it. A steward can give you a new one.")
    with observation(backend.engine) as session:
        row = session.get_one(people.PersonRow, found.person.id)
        _second_factor(session, backend, row, code, now)
        take_back_try(session, backend.sealer.session_key, counted)
        people.note_confirmed(session, found.digest, now)


def require_confirmed(found: ConsoleSession, within: timedelta, now: datetime) -> None:
    """Raise `ConfirmationWanted` where somebody last showed longer ago that it is they."""
    if now - found.confirmed_at > within:
        raise ConfirmationWanted(
            "It is a while since you signed in: show that it is still you.",
            next_step="Type your password, or use a passkey.",
        )


def _device(backend: Backend, login: str, name: str, now: datetime) -> str:
    """Return what a browser is known by: its name, for which login, since when, and that we said so."""
    said = f"{name}.{_login_mark(backend, login)}.{int(now.timestamp())}"
    return f"{said}.{_seal(backend, said)}"


def known_device(backend: Backend, device: str, now: datetime) -> tuple[str, str] | None:
    """Return the name of a device that signed in before, and the mark of its login; None for any other."""
    parts = device.split(".")
    if len(parts) != 4 or not compare_digest(_seal(backend, ".".join(parts[:3])).encode(), parts[3].encode()):
        return None
    since = datetime.fromtimestamp(int(parts[2]), now.tzinfo)
    return (parts[0], parts[1]) if now - since < DEVICE_LIFE else None


def _known_for(backend: Backend, login: str, device: str, now: datetime) -> str | None:
    """Return the name of a device that signed in with this login before, or None."""
    found = known_device(backend, device, now)
    return found[0] if found is not None and found[1] == _login_mark(backend, login) else None


def _login_mark(backend: Backend, login: str) -> str:
    return hmac_digest(backend.sealer.session_key, f"login\0{login}".encode(), "sha256").hex()[:16]


def _seal(backend: Backend, said: str) -> str:
    return hmac_digest(backend.sealer.session_key, f"device\0{said}".encode(), "sha256").hex()


def find_session(
    session: Session, backend: Backend, cookie: str, now: datetime, *, in_use: bool = True
) -> ConsoleSession | None:
    """Return the session of a cookie, or None if it ended, was idle too long, never ours, or the person is gone.

    That it is used is committed once a minute. The person comes without their roles: see `with_roles`.
    """
    held = admission.by_session(session, _digest(cookie), CONSOLE, own_api.NAME, now)
    if held is None or held.expires_at <= now or not held.known.person_active:
        return None
    directory, known = held.directory.value(), held.known
    if held.seen_at + timedelta(seconds=directory.policy.session_idle_seconds) <= now:
        return None
    if in_use and now - held.seen_at >= SEEN_EVERY:
        admission.note_seen(session, held.digest, now)
        session.commit()
    assert known.person_id is not None
    assert known.person_name is not None
    due = _wants_more(directory, second_factor=held.second_factor, passkey=held.passkey)
    if due:
        due = bool(roles.role_names(session, directory.id, now, known.person_id).get(known.person_id))
    return ConsoleSession(
        Person(id=known.person_id, name=known.person_name, login=held.login, active=True, roles=[]),
        directory,
        held.expires_at,
        _csrf(backend, cookie),
        not held.password_set_by,
        held.created_at,
        held.digest,
        held.second_factor,
        due,
        held.passkey,
        held.confirmed_at or held.created_at,
        held.provider,
        known,
    )


def with_roles(session: Session, found: ConsoleSession, now: datetime) -> ConsoleSession:
    """Return a session with the roles of its person."""
    held = roles.role_names(session, found.directory.id, now, found.person.id)
    person = found.person.model_copy(update={"roles": held.get(found.person.id, [])})
    return replace(found, person=person)


def sign_out(backend: Backend, cookie: str, now: datetime) -> None:
    """End a console session, and what was allowed in it, for as long as the person is there."""
    with backend.ending(now) as session:
        # First, so that what is allowed in it at this moment is seen.
        if people.end_session(session, _digest(cookie)):
            authorizations.end_of_sign_in(session, _digest(cookie), OFFLINE, now)


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


def _digest(cookie: str) -> bytes:
    return sha256(cookie.encode()).digest()


def _csrf(backend: Backend, cookie: str) -> str:
    """Return a value bound to the session that only our own pages can read (double submit, keyed)."""
    return hmac_digest(backend.sealer.session_key, cookie.encode(), "sha256").hex()
