"""A person's own second factor: set up, confirmed, taken off; codes for when the device is lost."""

from __future__ import annotations

import secrets
from collections.abc import Iterator
from contextlib import contextmanager
from datetime import datetime

from jamb.actions.base.backend import Backend
from jamb.actions.entry.factor_codes import fresh_codes, is_good, is_right, is_wanted, seal_secret
from jamb.actions.entry.passkeys import view as passkey_view
from jamb.actions.entry.sessions import FRESH, ConsoleSession, locked_person, require_confirmed
from jamb.actions.entry.tries import refuse_too_many
from jamb.core.directory import second_factor as core
from jamb.core.errors import Conflict, Forbidden
from jamb.core.tries import FACTOR_CODE, Counted
from jamb.store.base.work import Actor, Unit, observation
from jamb.store.directory import passkeys, people
from jamb.store.directory import second_factors as store
from jamb.wire.directory.people import OwnSecondFactor, RecoveryCodes, SecondFactorKey


def read(backend: Backend, found: ConsoleSession) -> OwnSecondFactor:
    with observation(backend.engine) as session:
        policy = found.directory.policy
        return OwnSecondFactor(
            set_up=store.is_set(session, found.person.id),
            recovery_codes=store.recovery_codes_left(session, found.person.id),
            wanted=found.factor_due or ((policy.second_factor or policy.passkey) and bool(found.person.roles)),
            passkeys=[passkey_view(row) for row in passkeys.passkeys_of(session, found.person.id)],
            passkey_host=backend.passkey_host,
            passkey_wanted=policy.passkey,
        )


def begin(backend: Backend, found: ConsoleSession, now: datetime) -> SecondFactorKey:
    """Make a key for a device of the person's, which counts once a code of it was typed. Raises `Conflict`."""
    require_confirmed(found, FRESH, now)
    secret = secrets.token_bytes(core.SECRET_BYTES)
    with observation(backend.engine) as session:
        # One after the other: of two that begin at once the second sees what the first made.
        locked_person(session, found)
        row = store.held(session, found.person.id, lock=True)
        if row is not None and row.confirmed_at is not None:
            raise Conflict("A second factor is set up already.", next_step="Take it off first.")
        row = row or store.SecondFactorRow(person_id=found.person.id, sealed=b"", made_at=now)
        row.sealed, row.made_at = seal_secret(backend, found.person.id, secret), now
        session.add(row)
    uri = core.key_uri(secret, found.directory.name, found.person.login)
    return SecondFactorKey(key=core.key_text(secret), uri=uri)


def confirm(backend: Backend, found: ConsoleSession, code: str, now: datetime) -> RecoveryCodes:
    """Let the device count from now on, and hand out codes for when it is lost.

    Raises:
        Forbidden: the code is not of the device, or none was begun. TooManyTries: too many wrong ones.
    """
    _count(backend, found, now)
    with _own(backend, found, now) as unit:
        row = store.held(unit.session, found.person.id, lock=True)
        if row is None or row.confirmed_at is not None:
            raise Forbidden("Nothing waits to be confirmed.", next_step="Begin again.")
        if not is_right(unit.session, backend, row, code, now, device_alone=True):
            raise _wrong()
        row.confirmed_at = now
        unit.session.add(row)
        codes = fresh_codes(unit.session, backend, found.person.id)
        # Whoever has typed a code here is signed in with it; their other sign-ins are not.
        people.end_sessions(unit.session, found.person.id, but=found.digest)
        people.note_second_factor(unit.session, found.digest)
        _enter(unit, found, "set up")
    return RecoveryCodes(codes=codes)


def renew_codes(backend: Backend, found: ConsoleSession, code: str, now: datetime) -> RecoveryCodes:
    """Hand out other codes in place of those that are left. Raises as `confirm`."""
    with _proven(backend, found, code, now) as unit:
        codes = fresh_codes(unit.session, backend, found.person.id)
        _enter(unit, found, "other recovery codes")
    return RecoveryCodes(codes=codes)


def take_off(backend: Backend, found: ConsoleSession, code: str, now: datetime) -> None:
    """Take the device off. Raises as `confirm`; and `Forbidden` where the policy wants one."""
    with observation(backend.engine) as session:
        alone = not passkeys.has_one(session, found.person.id)
    if alone and found.directory.policy.second_factor and found.person.roles:
        raise Forbidden(
            "Whoever has a role here must have a second factor.", next_step="A steward can take it off, for another."
        )
    with _proven(backend, found, code, now) as unit:
        left = passkeys.has_one(unit.session, found.person.id)
        store.take_off(unit.session, found.person.id, with_codes=not left)
        _enter(unit, found, "taken off")


@contextmanager
def _proven(backend: Backend, found: ConsoleSession, code: str, now: datetime) -> Iterator[Unit]:
    _count(backend, found, now)
    with _own(backend, found, now) as unit:
        row = store.held(unit.session, found.person.id, lock=True)
        if not is_wanted(unit.session, row, found.person.id):
            raise Forbidden("No second factor is set up.", next_step="Set one up.")
        if not is_good(unit.session, backend, found.person.id, row, code, now):
            raise _wrong()
        yield unit


@contextmanager
def _own(backend: Backend, found: ConsoleSession, now: datetime) -> Iterator[Unit]:
    actor = Actor("person", str(found.person.id), found.person.name, "Jamb console")
    with backend.change(found.directory, actor, now) as unit:
        locked_person(unit.session, found)
        yield unit


def _count(backend: Backend, found: ConsoleSession, now: datetime) -> None:
    refuse_too_many(backend, (Counted(FACTOR_CODE, (str(found.person.id),)),), now)


def _enter(unit: Unit, found: ConsoleSession, what: str) -> None:
    subject = {"kind": "person", "id": str(found.person.id), "name": found.person.name}
    unit.enter("person.changed", subject, after={"second factor": what})


def _wrong() -> Forbidden:
    return Forbidden("The code is not right.", next_step="Type the one that the device shows now; each counts once.")
