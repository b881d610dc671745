"""Initial access tokens: an administrator lets software register clients of its own (RFC 7591 section 3)."""

from __future__ import annotations

import base64
import hmac
from collections.abc import Iterable
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.directory.people import find_person
from jamb.core.clients.initial_access import (
    LABEL_LONGEST,
    MOST_OPEN,
    MOST_USES,
    InitialAccessState,
    access_end,
    state_of_access,
)
from jamb.core.directory.directories import Directory
from jamb.core.errors import AlreadyEnded, BadInput, Conflict, NotFound
from jamb.core.links import key_from
from jamb.store.clients import initial_access
from jamb.store.clients.initial_access import InitialAccessRow
from jamb.wire.clients.initial_access import InitialAccess

MOST_SHOWN = 200


def make(act: Act, label: str, *, uses: int, days: int, owners: Iterable[str] = ()) -> InitialAccess:
    """Make a token with which software registers up to `uses` clients within `days`; it is shown once.

    Args:
        label: who is given it, or what for: what it registers carries it.
        owners: logins or ids of those who will own what is registered; whoever makes it, if it is a person and names
            nobody.

    Raises:
        BadInput: out of bounds. Conflict: too many are open. NotFound: an owner is not known here.
    """
    words = " ".join(label.split())
    if not 1 <= len(words) <= LABEL_LONGEST:
        raise BadInput.field("label", f"{len(words)} characters", f"1 to {LABEL_LONGEST}")
    if not 1 <= uses <= MOST_USES:
        raise BadInput.field("uses", uses, f"1 to {MOST_USES}")
    expires_at = access_end(act.now, days)
    with act.change() as unit:
        if initial_access.count_open(unit.session, act.directory.id, act.now) >= MOST_OPEN:
            raise Conflict(
                f"{act.directory.name} has {MOST_OPEN} open initial access tokens, which is the most.",
                next_step="Withdraw one that nobody needs.",
            )
        named = [*owners] or ([act.actor.id] if act.actor.kind == "person" else [])
        people = {person.id: person for person in (find_person(unit.session, act.directory, login) for login in named)}
        row = InitialAccessRow(
            id=uuid4(),
            directory_id=act.directory.id,
            label=words,
            made_at=act.now,
            made_by=act.actor.name,
            made_by_id=act.actor.id,
            owners=[str(key) for key in people],
            uses=uses,
            expires_at=expires_at,
        )
        unit.session.add(row)
        told = {"clients": uses, "until": expires_at.isoformat(timespec="minutes")}
        unit.enter(
            "initial-access.made",
            _subject(row),
            after={**told, "owners": [person.name for person in people.values()]},
        )
        return _view(row, act.now, token_of(act.backend, "initial access", str(row.id)))


def list_tokens(act: Act) -> list[InitialAccess]:
    """Return the latest, the newest first, without what opens them."""
    with act.read() as session:
        found = initial_access.accesses_of(session, act.directory.id, MOST_SHOWN)
        return [_view(row, act.now) for row in found]


def withdraw(act: Act, access_id: UUID) -> InitialAccess:
    """End one that is open; what was registered with it stays. Raises `NotFound`, `AlreadyEnded`."""
    with act.change() as unit:
        row = initial_access.access_by_id(unit.session, access_id, lock=True)
        if row is None or row.directory_id != act.directory.id:
            raise NotFound("There is no such initial access token here.", next_step="See the list.")
        state = _state(row, act.now)
        if state != InitialAccessState.OPEN:
            raise AlreadyEnded(f"“{row.label}” is {state} already.")
        row.ended_at = act.now
        unit.session.add(row)
        unit.enter("initial-access.withdrawn", _subject(row), before={"clients left": row.uses - row.used})
        return _view(row, act.now)


def presented(
    session: Session, backend: Backend, directory: Directory, token: str, now: datetime, *, lock: bool = False
) -> InitialAccessRow | None:
    """Return what a token opens; None where it opens nothing, for whatever reason."""
    identity = proven(backend, "initial access", token)
    try:
        row = initial_access.access_by_id(session, UUID(identity), lock=lock) if identity else None
    except ValueError:
        return None
    if row is None or row.directory_id != directory.id:
        return None
    return row if _state(row, now) == InitialAccessState.OPEN else None


def token_of(backend: Backend, purpose: str, identity: str) -> str:
    """Return a token that says whose it is, and stands for it: it is derived from the root key, and kept nowhere."""
    return f"{identity}.{base64.urlsafe_b64encode(_key(backend, purpose, identity)).decode().rstrip('=')}"


def proven(backend: Backend, purpose: str, token: str) -> str:
    """Return whose token this is; empty for one that was never made."""
    identity, _, text = token.partition(".")
    key = key_from(text)
    made = key is not None and hmac.compare_digest(key, _key(backend, purpose, identity))
    return identity if made else ""


def _key(backend: Backend, purpose: str, identity: str) -> bytes:
    return hmac.digest(backend.sealer.session_key, f"{purpose}\0{identity}".encode(), "sha256")


def _view(row: InitialAccessRow, now: datetime, token: str = "") -> InitialAccess:
    return InitialAccess(
        id=row.id,
        label=row.label,
        made_at=row.made_at,
        made_by=row.made_by,
        uses=row.uses,
        used=row.used,
        expires_at=row.expires_at,
        state=_state(row, now),
        token=token,
    )


def _state(row: InitialAccessRow, now: datetime) -> InitialAccessState:
    return state_of_access(row.uses, row.used, row.expires_at, row.ended_at, now)


def _subject(row: InitialAccessRow) -> dict[str, str]:
    return {"kind": "initial access token", "id": str(row.id), "name": row.label}
