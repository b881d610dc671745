"""Device authorization (RFC 8628): a device asks, a person says yes or no elsewhere, the device learns it."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from hmac import digest as hmac_digest
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.authorization.authorizations import allowed_by
from jamb.actions.authorization.offers import asked_for, asking_client, offer
from jamb.actions.base.backend import Backend, console_client_id
from jamb.actions.base.lookups import find_directory
from jamb.actions.entry.sessions import ConsoleSession, refuse_signed_out
from jamb.actions.entry.tries import guessing, refuse_too_many
from jamb.core.authorization.devices import DeviceState
from jamb.core.authorization.requests import Wanted
from jamb.core.clients.clients import ClientKind, ClientState, GrantType
from jamb.core.directory.directories import Directory
from jamb.core.errors import AlreadyEnded, Conflict, NotFound
from jamb.core.tries import DEVICE_ADDRESS, DEVICE_DIRECTORY, USER_CODE, Counted
from jamb.store.base.work import observation
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.wire.directory.people import WaitingDevice

LIFE = timedelta(minutes=10)
INTERVAL_SECONDS = 2
# RFC 8628 section 6.1: no vowels, so that no word appears; 20^8 codes.
_ALPHABET = "BCDFGHJKLMNPQRSTVWXZ"
# The command line asks for nothing by name.
NOTHING = Wanted("", "", (), "", "", "")


class PollAnswer(StrEnum):
    """What a polling device is told; the names are those of RFC 8628 section 3.5 where it has one."""

    GO = "go"
    PENDING = "authorization_pending"
    SLOW_DOWN = "slow_down"
    DENIED = "access_denied"
    EXPIRED = "expired_token"
    UNKNOWN = "invalid_grant"


@dataclass(frozen=True, slots=True)
class StartedDevice:
    device_code: str
    user_code: str
    expires_in_seconds: int
    interval_seconds: int


@dataclass(frozen=True, slots=True)
class Poll:
    answer: PollAnswer
    person_id: UUID | None = None
    sign_in_id: UUID | None = None
    authorization_id: UUID | None = None


def start(
    backend: Backend, slug: str, client_id: str, address: str, now: datetime, wanted: Wanted | None = None
) -> StartedDevice | None:
    """Open a request for a public client of the directory; None if there is no such client.

    `wanted`: what it asks for; None: to sign a person in to Jamb's own API, as the command line does, for which it must
    hold something there.

    Raises:
        TooManyTries: too many codes were asked for from this address, or in this directory.
    """
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
    refuse_too_many(backend, (Counted(DEVICE_ADDRESS, (address,)), Counted(DEVICE_DIRECTORY, (slug,))), now)
    with observation(backend.engine) as session:
        client = _showing_codes(session, directory, client_id)
        if client is None or (wanted is None and not clients.acts_for_people(session, client.id, now)):
            return None
        device_code = secrets.token_urlsafe(32)
        user_code = "".join(secrets.choice(_ALPHABET) for _ in range(8))
        session.add(
            credentials.DeviceRequestRow(
                id=uuid4(),
                directory_id=directory.id,
                client_id=client.id,
                device_digest=_digest(backend, device_code),
                user_digest=_digest(backend, user_code),
                state=DeviceState.PENDING.value,
                created_at=now,
                expires_at=now + LIFE,
                interval_seconds=INTERVAL_SECONDS,
                request=wanted.kept() if wanted is not None else None,
            )
        )
        shown = f"{user_code[:4]}-{user_code[4:]}"
        return StartedDevice(device_code, shown, int(LIFE.total_seconds()), INTERVAL_SECONDS)


def may_ask(backend: Backend, slug: str, client_id: str) -> bool:
    """Tell whether a client may ask for codes: a live one of a kind that shows them, and no part of Jamb itself."""
    with observation(backend.engine) as session:
        client = _showing_codes(session, find_directory(session, slug), client_id)
        return client is not None and not client.builtin


def _showing_codes(session: Session, directory: Directory, client_id: str) -> clients.ClientRow | None:
    """Return a live client of a kind that shows codes; not the console, whose name would be believed."""
    client = clients.by_id(session, directory.id, client_id)
    if client is None or client.state != ClientState.LIVE or client.id == console_client_id(directory.slug):
        return None
    return client if ClientKind(client.kind).uses(GrantType.DEVICE_CODE, client.grant_types) else None


def look(backend: Backend, directory: Directory, user_code: str, person_id: UUID, now: datetime) -> WaitingDevice:
    """Return what waits behind a user code. Raises `NotFound` for unknown, ended or answered ones alike."""
    with guessing(backend, Counted(USER_CODE, (str(person_id),)), now), observation(backend.engine) as session:
        row = _pending(session, backend, directory, user_code, now)
        wanted = Wanted.of(row.request) if row.request is not None else NOTHING
        client = asking_client(session, directory, row.client_id, wanted)
        shown = offer(session, directory, client, wanted, person_id, now)
        return WaitingDevice(
            client_id=client.id,
            client_name=client.name,
            directory=directory.name,
            asked_at=row.created_at,
            expires_at=row.expires_at,
            all_rights=row.request is None,
            **asked_for(wanted, shown),
        )


def answer(
    backend: Backend,
    found: ConsoleSession,
    user_code: str,
    chosen: frozenset[str],
    *,
    approve: bool,
    now: datetime,
) -> None:
    """Let a device in, or not. `chosen`: what the person consents to for themself, of that which is theirs to allow."""
    person_id = found.person.id
    with guessing(backend, Counted(USER_CODE, (str(person_id),)), now):
        with observation(backend.engine) as session:
            row = _pending(session, backend, found.directory, user_code, now)
            client_id, request = row.client_id, row.request
        made: UUID | None = None
        if approve and request is not None:
            code = secrets.token_urlsafe(32)
            made = allowed_by(backend, client_id, Wanted.of(request), found, chosen, code, now)
            if made is None:
                raise Conflict("Nothing that the device asks for is allowed.", next_step="Turn it away.")
        with observation(backend.engine) as session:
            refuse_signed_out(session, found)
            row = _pending(session, backend, found.directory, user_code, now)
            row.state = (DeviceState.APPROVED if approve else DeviceState.DENIED).value
            row.person_id, row.authorization_id = person_id, made
            session.add(row)


def poll(backend: Backend, slug: str, client_id: str, device_code: str, now: datetime) -> Poll:
    """Answer a polling device; a yes is handed out once."""
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        row = credentials.device_by_digest(session, directory.id, device=_digest(backend, device_code))
        if row is None or row.client_id != client_id or row.state == DeviceState.SERVED:
            return Poll(PollAnswer.UNKNOWN)
        if row.expires_at <= now:
            return Poll(PollAnswer.EXPIRED)
        if row.state == DeviceState.DENIED or row.ended_at is not None:
            return Poll(PollAnswer.DENIED)
        too_soon = row.polled_at is not None and now - row.polled_at < timedelta(seconds=row.interval_seconds)
        row.polled_at = now
        session.add(row)
        if row.state == DeviceState.APPROVED:
            row.state = DeviceState.SERVED.value
            return Poll(PollAnswer.GO, row.person_id, row.id, row.authorization_id)
        if too_soon:
            # RFC 8628 section 3.5: each slow_down lengthens the interval by five seconds.
            row.interval_seconds += 5
            return Poll(PollAnswer.SLOW_DOWN)
        return Poll(PollAnswer.PENDING)


def sign_out(backend: Backend, sign_in_id: UUID, now: datetime) -> None:
    """End a sign-in: its token is refused by Jamb's own API from now on."""
    with observation(backend.engine) as session:
        row = session.get(credentials.DeviceRequestRow, sign_in_id)
        if row is None or row.ended_at is not None:
            raise AlreadyEnded("You are signed out already.")
        row.ended_at = now
        session.add(row)


def _pending(
    session: Session, backend: Backend, directory: Directory, user_code: str, now: datetime
) -> credentials.DeviceRequestRow:
    tidy = "".join(ch for ch in user_code.upper() if ch in _ALPHABET)
    row = credentials.device_by_digest(session, directory.id, user=_digest(backend, tidy))
    if row is None or row.state != DeviceState.PENDING or row.expires_at <= now:
        raise NotFound(
            "No device waits with this code.",
            next_step="Check the code on the device, or start again there: codes last ten minutes and serve once.",
        )
    return row


def _digest(backend: Backend, code: str) -> bytes:
    return hmac_digest(backend.sealer.session_key, code.encode(), "sha256")
