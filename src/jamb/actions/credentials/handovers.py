"""Handovers: seal a new credential into a link, open it once, tell its sender, take it back."""

from __future__ import annotations

import hmac
import secrets
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import client_subject
from jamb.actions.credentials.adding import Added, Place
from jamb.actions.credentials.credentials import find_credential
from jamb.core.credentials.handover import (
    MOST_WRONG_TRIES,
    NOTE_LONGEST,
    HandoverState,
    check_passphrase,
    handover_end,
    state_of_handover,
)
from jamb.core.errors import AlreadyEnded, BadInput, Conflict, NotFound, Unsuited
from jamb.core.links import KEY_BYTES, key_from, link_of
from jamb.store.base.work import Actor, observation
from jamb.store.clients.clients import ClientRow
from jamb.store.credentials.handovers import (
    HandoverRow,
    handover_by_id,
    handover_key,
    handovers_of,
    open_handover,
    seal_handover,
)
from jamb.store.directory.directories import DirectoryRow
from jamb.wire.credentials.handovers import Handover, WaitingHandover

# Tries at a link that is gone which the ledger has; later ones are counted.
MOST_LATE_TOLD = 3
_HOLDER = Actor("link", "handover", "Whoever had the link", "Handover link")


@dataclass(frozen=True, slots=True)
class HandoverTerms:
    """`hours`: how long the link waits. `passphrase`: asked for beside the link; empty: none. `note`: for who opens."""

    hours: int
    passphrase: str = ""
    note: str = ""

    def check(self, now: datetime) -> datetime:
        """Return when the link runs out. Raises `BadInput`."""
        check_passphrase(self.passphrase)
        if len(self.note) > NOTE_LONGEST:
            raise BadInput.field("note", f"{len(self.note)} characters", f"at most {NOTE_LONGEST} characters")
        return handover_end(now, self.hours)


@dataclass(frozen=True, slots=True)
class Sealed:
    """A handover just made; `link` is here once only."""

    view: Handover
    link: str


@dataclass(frozen=True, slots=True)
class Opening:
    """Who opens a link: from where, with which program."""

    address: str
    user_agent: str


def seal_into(
    backend: Backend, terms: HandoverTerms, words: Callable[[str, str, Added], bytes], made: list[Sealed]
) -> Callable[[Place, Added], None]:
    """Return what seals a credential into a link, in the same transaction as it is added; `made` takes the link.

    Args:
        words: what the link shall show, from the names of client and directory and what was added.
    """

    key, identity = secrets.token_bytes(KEY_BYTES), uuid4()
    sealing_key = _stretched(backend, identity, key, terms.passphrase)

    def seal(at: Place, added: Added) -> None:
        row = HandoverRow(
            id=identity,
            directory_id=at.act.directory.id,
            client_id=at.client.id,
            credential_id=added.credential.id,
            digest=_digest(at.act.backend, key),
            sealed=seal_handover(identity, sealing_key, words(at.client.name, at.act.directory.name, added)),
            has_passphrase=bool(terms.passphrase),
            note=terms.note.strip(),
            made_at=at.act.now,
            made_by=at.act.actor.name,
            expires_at=terms.check(at.act.now),
        )
        at.unit.session.flush()
        at.unit.session.add(row)
        after = {"credential": added.credential.hint, "until": row.expires_at.isoformat(timespec="minutes")}
        at.unit.enter("handover.made", client_subject(at.client), after=after)
        made.append(
            Sealed(
                _view(row, added.credential.hint, at.act.now),
                link_of(at.act.backend.base_url, "handover", str(identity), key),
            )
        )

    return seal


def list_handovers(act: Act, client_id: str) -> list[Handover]:
    """Return a client's handovers, newest first."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        return [_view(row, hint, act.now) for row, hint in handovers_of(session, client.id)]


def withdraw_handover(act: Act, client_id: str, handover_id: UUID) -> Handover:
    """Take a link back before it is opened. Its credential stands.

    Raises:
        AlreadyEnded: it was opened, ran out, or was taken back before.
    """
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        row = handover_by_id(unit.session, handover_id, lock=True)
        if row is None or row.client_id != client.id:
            raise NotFound(f"“{client.name}” has no handover {handover_id}.")
        hint = find_credential(unit.session, client, row.credential_id).hint
        if _state(row, act.now) is not HandoverState.WAITING:
            said = f"This link is {_state(row, act.now).value} already."
            raise AlreadyEnded(said, next_step=f"Withdraw the credential {hint}, if it came into wrong hands.")
        row.withdrawn_at, row.sealed = act.now, None
        unit.session.add(row)
        unit.enter("handover.withdrawn", client_subject(client), after={"credential": hint})
        return _view(row, hint, act.now)


def look_at_handover(backend: Backend, handover_id: UUID, key_text: str, now: datetime) -> WaitingHandover:
    """Return what is said of a link before it is opened. Raises `NotFound` without its key."""
    with Session(backend.engine) as session:
        row = handover_by_id(session, handover_id)
        _check_key(backend, row, key_text)
        assert row is not None
        client = session.get_one(ClientRow, row.client_id)
        directory = session.get_one(DirectoryRow, row.directory_id)
        return WaitingHandover(
            client_name=client.name,
            directory_name=directory.name,
            made_by=row.made_by,
            made_at=row.made_at,
            expires_at=row.expires_at,
            has_passphrase=row.has_passphrase,
            note=row.note,
            state=_state(row, now),
            opened_at=row.opened_at,
            opened_from=row.opened_from,
        )


def open_link(
    backend: Backend, handover_id: UUID, key_text: str, passphrase: str, who: Opening, now: datetime
) -> bytes:
    """Return what a link carries, once. Of two who open it at the same moment, one sees it.

    Raises:
        NotFound: there is no such link. BadInput: the passphrase is wrong; after five it is locked for good.
        AlreadyEnded: it was opened before, ran out, was taken back or is locked. Its sender sees that it was tried.
    """
    with Session(backend.engine) as session:
        found = handover_by_id(session, handover_id)
        key = _check_key(backend, found, key_text)
        assert found is not None
        directory = session.get_one(DirectoryRow, found.directory_id).value()
        gone = _state(found, now) is not HandoverState.WAITING
        told_enough = found.late_tries >= MOST_LATE_TOLD
    if gone and told_enough:
        raise _tried_again(backend, handover_id, who, now)
    sealing_key = b"" if gone else _stretched(backend, handover_id, key, passphrase, who.address)
    with backend.change(directory, _HOLDER, now) as unit:
        row = handover_by_id(unit.session, handover_id, lock=True)
        assert row is not None
        client = unit.session.get_one(ClientRow, row.client_id)
        after = {"from": who.address, "with": who.user_agent}
        refused: Conflict | BadInput | None = None
        plain = None
        if row.sealed is None or _state(row, now) is not HandoverState.WAITING:
            refused = _gone(row, now)
            row.late_tries, row.late_at, row.late_from = row.late_tries + 1, now, who.address
            unit.enter("handover.tried-again", client_subject(client), after=after)
        elif not sealing_key or (plain := open_handover(row.id, sealing_key, row.sealed)) is None:
            row.wrong_tries += 1
            refused = _wrong(row)
            if row.wrong_tries >= MOST_WRONG_TRIES:
                row.sealed = None
            unit.enter("handover.wrong-passphrase", client_subject(client), after=after)
        else:
            row.sealed, row.opened_at, row.opened_from, row.opened_with = None, now, who.address, who.user_agent
            unit.enter("handover.opened", client_subject(client), after=after)
        unit.session.add(row)
    # Only now, so that what was noted of the try is kept.
    if refused is not None:
        raise refused
    assert plain is not None
    return plain


def _stretched(backend: Backend, handover_id: UUID, key: bytes, passphrase: str, address: str = "") -> bytes:
    if not passphrase:
        return handover_key(handover_id, key, "")
    return backend.hashing.run(lambda: handover_key(handover_id, key, passphrase), address)


def _tried_again(backend: Backend, handover_id: UUID, who: Opening, now: datetime) -> Conflict:
    """Count a further try at a link that is gone. The ledger has the first of them: it is not for strangers to fill."""
    with observation(backend.engine) as session:
        row = handover_by_id(session, handover_id, lock=True)
        assert row is not None
        row.late_tries, row.late_at, row.late_from = row.late_tries + 1, now, who.address
        session.add(row)
        return _gone(row, now)


def _check_key(backend: Backend, row: HandoverRow | None, key_text: str) -> bytes:
    key = key_from(key_text.strip())
    if row is None or key is None or not hmac.compare_digest(_digest(backend, key), row.digest):
        raise NotFound(
            "There is no such handover link.", next_step="Copy the whole link, with what is behind the #; or ask anew."
        )
    return key


def _gone(row: HandoverRow, now: datetime) -> Conflict:
    state = _state(row, now)
    if state is HandoverState.OPENED:
        where = f" from {row.opened_from}" if row.opened_from else ""
        assert row.opened_at is not None
        return AlreadyEnded(
            f"This link was opened before, on {row.opened_at:%Y-%m-%d at %H:%M} UTC{where}.",
            next_step=f"If that was not you, tell {row.made_by} at once: the credential must be withdrawn.",
        )
    said = {
        HandoverState.EXPIRED: f"This link ran out on {row.expires_at:%Y-%m-%d at %H:%M} UTC.",
        HandoverState.LOCKED: "This link is locked: the passphrase was wrong too often.",
        HandoverState.WITHDRAWN: f"{row.made_by} took this link back.",
    }
    return AlreadyEnded(said.get(state, "This link is gone."), next_step=f"Ask {row.made_by} for another.")


def _wrong(row: HandoverRow) -> Unsuited:
    left = MOST_WRONG_TRIES - row.wrong_tries
    allowed = "the passphrase that you were told beside the link"
    if left <= 0:
        return Unsuited.field("passphrase", "(not shown)", allowed, f"The link is locked now; ask {row.made_by} anew.")
    tries = "try" if left == 1 else "tries"
    return Unsuited.field("passphrase", "(not shown)", allowed, f"{left} {tries} left, then the link is locked.")


def _digest(backend: Backend, key: bytes) -> bytes:
    return hmac.digest(backend.sealer.session_key, b"handover" + key, "sha256")


def _state(row: HandoverRow, now: datetime) -> HandoverState:
    return state_of_handover(row.expires_at, row.opened_at, row.withdrawn_at, row.wrong_tries, now)


def _view(row: HandoverRow, hint: str, now: datetime) -> Handover:
    names = {name: getattr(row, name) for name in Handover.model_fields if name not in {"hint", "state"}}
    return Handover(hint=hint, state=_state(row, now), **names)
