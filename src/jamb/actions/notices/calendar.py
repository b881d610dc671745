"""Calendar feeds (RFC 5545): ends of credentials and overlaps, of a person's own clients or of a whole directory."""

from __future__ import annotations

import hmac
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.directory.directories import Directory
from jamb.core.errors import Forbidden, NotFound, Unsuited
from jamb.store.clients.clients import owned_by
from jamb.store.credentials import rotations
from jamb.store.directory.people import PersonRow
from jamb.store.directory.roles import holding_roles
from jamb.store.notices import notices
from jamb.store.notices.calendar import CalendarFeedRow, feed_by_digest

AHEAD = timedelta(days=400)
MOST_ROTATIONS = 10_000
# Who reads all registrations may have a feed of all, as long as the role counts everywhere.
_WHOLE = ("auditor", "registrar", "approver", "custodian", "steward")


@dataclass(frozen=True, slots=True)
class Entry:
    """Something with a day. `key` stays the same as long as it is the same thing."""

    key: str
    on: datetime
    words: str
    detail: str
    path: str


@dataclass(frozen=True, slots=True)
class Feed:
    name: str
    entries: Sequence[Entry]


def make_feed(act: Act, whole: bool) -> str:
    """Return the key of a new feed for the caller; the one they had ends.

    Raises:
        BadInput: a client has no calendar. Forbidden: a feed of the whole directory for who may not read it.
    """
    actor = act.actor
    if actor.kind != "person":
        raise Unsuited.field("caller", actor.kind, "a person: a client reads the API instead")
    if whole and act.own is not None:
        raise Forbidden(
            "You see the clients that you own, not the whole directory.", next_step="Make a feed of your own clients."
        )
    key = secrets.token_urlsafe(32)
    with act.change() as unit:
        row = unit.session.get(CalendarFeedRow, (UUID(actor.id), whole))
        row = row or CalendarFeedRow(
            person_id=UUID(actor.id), whole=whole, directory_id=act.directory.id, made_at=act.now, digest=b""
        )
        row.digest, row.made_at, row.read_at = _digest(act.backend, key), act.now, None
        unit.session.add(row)
        what = "the whole directory" if whole else "one's own clients"
        subject = {"kind": "person", "id": actor.id, "name": actor.name}
        unit.enter("calendar.made", subject, after={"of": what})
    return key


def read_feed(backend: Backend, slug: str, key: str, now: datetime) -> Feed:
    """Return what a feed shows now. Raises `NotFound` for an unknown key, or a person who may not see it any more."""
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        row = feed_by_digest(session, _digest(backend, key))
        person = session.get(PersonRow, row.person_id) if row is not None else None
        if row is None or row.directory_id != directory.id or person is None or not person.active:
            raise _unknown()
        only: frozenset[str] | None = None
        if not row.whole:
            only = frozenset(one for ids in owned_by(session, row.person_id).values() for one in ids)
        elif not any(
            held.person.id == person.id and held.counts_for(None)
            for held in holding_roles(session, directory.id, _WHOLE, now)
        ):
            raise _unknown()
        name = f"{directory.name}: credentials" if row.whole else f"{directory.name}: my clients' credentials"
        return Feed(name, _entries(session, directory, only, now))


def _entries(session: Session, directory: Directory, only: frozenset[str] | None, now: datetime) -> list[Entry]:
    found = [
        Entry(
            f"ends-{one.id}",
            one.expires_at,
            f"{one.client_name}: credential expires",
            f"{one.hint} ends; rotate it before.",
            f"/clients/{one.client_id}#credentials",
        )
        for one in notices.ending_soon(session, directory.id, now, now + AHEAD)
        if only is None or one.client_id in only
    ]
    under_way = rotations.page(
        session, directory.id, client_ids=only, ended_since=None, after=None, limit=MOST_ROTATIONS
    )
    found += [
        Entry(
            f"overlap-{one.row.id}",
            one.row.overlap_ends_at,
            f"{one.client_name}: overlap ends",
            f"{one.old.hint} should be out of use: {one.new.hint} follows it.",
            "/rotation",
        )
        for one in under_way
    ]
    return sorted(found, key=lambda one: one.on)


def _unknown() -> NotFound:
    return NotFound(
        "There is no such calendar feed.", next_step="Make a new one in the console or by `jamb notices calendar`."
    )


def _digest(backend: Backend, key: str) -> bytes:
    return hmac.digest(backend.sealer.session_key, b"calendar" + key.encode(), "sha256")
