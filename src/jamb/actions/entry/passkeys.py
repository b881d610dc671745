"""Passkeys of people: added and taken off by their person, and signed in with (W3C Web Authentication Level 3).

What a browser sends is judged by `web_authentication`; that it answers a challenge of ours, once and in time, here.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.backend import Backend, console_client_id
from jamb.actions.entry import web_authentication as web
from jamb.actions.entry.factor_codes import fresh_codes
from jamb.actions.entry.sessions import ConsoleSession, SignedIn, Visitor, find_directory_of, locked_person, opened
from jamb.core.directory import passkeys as core
from jamb.core.errors import BadInput, Conflict, Forbidden, NotFound, NotSignedIn
from jamb.core.text import name_fault
from jamb.store.base.work import Actor, observation
from jamb.store.credentials.credentials import first_seen
from jamb.store.directory import passkeys as store
from jamb.store.directory import people, second_factors
from jamb.wire.directory.people import Passkey, PasskeyAdded

_ADDING, _SIGNING_IN = "add", "sign in"
_FOR_MILLISECONDS = int(core.CHALLENGE_LIFE.total_seconds() * 1000)


@dataclass(frozen=True, slots=True)
class Shown:
    """What a browser sends of a passkey, and the origins (RFC 6454) of our own pages."""

    credential: Mapping[str, Any]
    origins: frozenset[str]


def begin(backend: Backend, found: ConsoleSession, now: datetime) -> dict[str, Any]:
    """Return what a browser needs to make a passkey (section 5.4). Raises `Conflict`: too many, or none are offered."""
    with observation(backend.engine) as session:
        held = store.passkeys_of(session, found.person.id)
    _refuse_more(len(held))
    person = found.person
    return web.to_make(
        _host(backend),
        f"Jamb, {found.directory.name}",
        web.Owner(person.id.bytes, person.login, person.name),
        _challenge(backend, _adding(found), now),
        _FOR_MILLISECONDS,
        held=[row.credential_id for row in held],
    )


def add(backend: Backend, found: ConsoleSession, name: str, shown: Shown, now: datetime) -> PasskeyAdded:
    """Keep a passkey that a browser made; with the first factor of a person come recovery codes.

    Raises:
        BadInput: what was sent is no passkey made here just now. Conflict: too many, or it is kept already.
    """
    words = " ".join(name.split())
    if not 1 <= len(words) <= core.NAME_LONGEST or name_fault(words):
        raise BadInput.field("name", f"{len(words)} characters", f"1 to {core.NAME_LONGEST} that are seen")
    expected, _ = _answered(backend, shown, _adding(found), now)
    try:
        made = web.made(shown.credential, web.Expected(expected, _host(backend), shown.origins))
    except web.UnfitCredential as error:
        raise _unfit() from error
    actor = Actor("person", str(found.person.id), found.person.name, "Jamb console")
    with backend.change(found.directory, actor, now) as unit:
        # One after the other: of two that add one at once the second sees the first.
        locked_person(unit.session, found)
        held = store.passkeys_of(unit.session, found.person.id)
        _refuse_more(len(held))
        first = not held and not second_factors.is_set(unit.session, found.person.id)
        row = store.PasskeyRow(
            id=uuid4(),
            person_id=found.person.id,
            credential_id=made.credential_id,
            public_key=made.public_key,
            uses=made.uses,
            name=words,
            made_at=now,
        )
        with unit.constraint("passkey_credential_id_key", lambda: Conflict("This passkey is kept here already.")):
            unit.session.add(row)
        codes = fresh_codes(unit.session, backend, found.person.id) if first else []
        # Who added it has shown it; other sign-ins have not.
        people.end_sessions(unit.session, found.person.id, but=found.digest)
        people.note_passkey(unit.session, found.digest)
        unit.enter("person.changed", _subject(found), after={"passkey": f"added “{words}”"})
        shown_row = view(row)
    return PasskeyAdded(passkey=shown_row, codes=codes)


def remove(backend: Backend, found: ConsoleSession, passkey_id: UUID, now: datetime) -> None:
    """Take one off; who signed in by passkeys ends, but here.

    Raises:
        NotFound: they have no such passkey. Forbidden: it is the last, and the policy wants one.
    """
    actor = Actor("person", str(found.person.id), found.person.name, "Jamb console")
    with backend.change(found.directory, actor, now) as unit:
        locked_person(unit.session, found)
        row = unit.session.get(store.PasskeyRow, passkey_id)
        if row is None or row.person_id != found.person.id:
            raise NotFound("You have no such passkey.", next_step="Look at your sign-in again.")
        unit.session.delete(row)
        unit.session.flush()
        device = second_factors.is_set(unit.session, found.person.id)
        last = not store.has_one(unit.session, found.person.id)
        policy = found.directory.policy
        if last and found.person.roles and (policy.passkey or (policy.second_factor and not device)):
            wanted = "a passkey" if policy.passkey else "a second factor"
            raise Forbidden(f"Whoever has a role here must have {wanted}.", next_step="Add another first.")
        if last and not device:
            second_factors.keep_recovery_codes(unit.session, found.person.id, ())
        people.end_sessions(unit.session, found.person.id, but=found.digest)
        unit.enter("person.changed", _subject(found), after={"passkey": f"took off “{row.name}”"})


def challenge_for_sign_in(backend: Backend, now: datetime) -> dict[str, Any]:
    """Return what a browser needs to show a passkey (section 5.5): whichever of its person's it finds.

    Raises:
        Conflict: none are offered.
    """
    return web.to_show(_host(backend), _challenge(backend, _SIGNING_IN, now), _FOR_MILLISECONDS)


def sign_in(backend: Backend, shown: Shown, visitor: Visitor, now: datetime) -> SignedIn:
    """Open a console session by a passkey. Raises `NotSignedIn`."""
    with observation(backend.engine) as session:
        passkey_id, person_id = _proven(session, backend, shown, now)
        person = people.held_still(session, person_id)
        # It was committed that the challenge came: the passkey may have been taken off since.
        if person is None or not person.active or not store.is_there(session, passkey_id):
            raise _not_proven()
        return opened(session, backend, person, visitor, now, second_factor=True, passkey=True)


def confirm(backend: Backend, found: ConsoleSession, shown: Shown, now: datetime) -> None:
    """Note that whoever is signed in showed by a passkey that it is still they. Raises `NotSignedIn`."""
    with observation(backend.engine) as session:
        _, person_id = _proven(session, backend, shown, now)
        if person_id != found.person.id:
            raise NotSignedIn("This is another person's passkey.", next_step="Use one of yours.")
        people.note_confirmed(session, found.digest, now)


def view(row: store.PasskeyRow) -> Passkey:
    return Passkey(id=row.id, name=row.name, made_at=row.made_at, last_used_at=row.last_used_at)


def _proven(session: Session, backend: Backend, shown: Shown, now: datetime) -> tuple[UUID, UUID]:
    """Return the passkey that a browser showed, and its person, by their ids. Raises `NotSignedIn`."""
    expected, ends = _answered(backend, shown, _SIGNING_IN, now, NotSignedIn)
    try:
        row = store.by_credential(session, web.id_in(shown.credential))
        if row is None:
            raise _not_proven()
        asked = web.Expected(expected, _host(backend), shown.origins)
        uses = web.uses_after(shown.credential, asked, row.public_key, row.uses)
    except web.UnfitCredential as error:
        raise _not_proven() from error
    person = session.get_one(people.PersonRow, row.person_id)
    console, proven = console_client_id(find_directory_of(session, person).slug), (row.id, person.id)
    row.uses, row.last_used_at = uses, now
    session.add(row)
    # Commits: a challenge counts once, whatever comes of it.
    if not first_seen(session, console, expected[:32], ends):
        raise _not_proven()
    return proven


def _answered(
    backend: Backend, shown: Shown, purpose: str, now: datetime, refusal: type[BadInput | NotSignedIn] = BadInput
) -> tuple[bytes, datetime]:
    """Return the challenge that is answered, and until when it counts."""
    try:
        sent = web.challenge_in(shown.credential)
    except web.UnfitCredential as error:
        raise (_unfit() if refusal is BadInput else _not_proven()) from error
    ends = core.challenge_end(backend.sealer.session_key, sent, purpose, now)
    if ends is None:
        raise _unfit() if refusal is BadInput else _not_proven()
    return sent, ends


def _challenge(backend: Backend, purpose: str, now: datetime) -> bytes:
    return core.challenge(backend.sealer.session_key, secrets.token_bytes(16), purpose, now)


def _adding(found: ConsoleSession) -> str:
    """A passkey is made for one session: a challenge that somebody else was given does not do."""
    return f"{_ADDING} {found.digest.hex()}"


def _host(backend: Backend) -> str:
    if not backend.passkey_host:
        raise Conflict(
            "There are no passkeys here: this service is reached by a number, not by a name.",
            next_step="Whoever runs it sets JAMB_PUBLIC_URL to a name.",
        )
    return backend.passkey_host


def _refuse_more(held: int) -> None:
    if held >= core.MOST_PASSKEYS:
        raise Conflict(f"You have {held} passkeys, which is the most.", next_step="Take one off first.")


def _subject(found: ConsoleSession) -> dict[str, str]:
    return {"kind": "person", "id": str(found.person.id), "name": found.person.name}


def _unfit() -> BadInput:
    allowed = f"a passkey made for this page within {int(core.CHALLENGE_LIFE.total_seconds() // 60)} minutes"
    return BadInput.field("credential", "(not shown)", allowed, "Try again.")


def _not_proven() -> NotSignedIn:
    return NotSignedIn(
        "The passkey is not known here, or it took too long.", next_step="Try again, or sign in with your password."
    )
