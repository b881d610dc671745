"""Rotations that the policy opens: in time, handed to the owners by a link, and never closed without a person."""

from __future__ import annotations

from collections.abc import Callable
from datetime import datetime, timedelta
from uuid import UUID, uuid5

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.actions.credentials.adding import Added, Place
from jamb.actions.credentials.delivering import Delivered, to_owners
from jamb.actions.credentials.handovers import HandoverTerms
from jamb.actions.credentials.opening import open_rotation
from jamb.core.credentials.handover import MOST_HOURS
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.directories import Directory
from jamb.core.errors import AlreadyOpened, JambError
from jamb.store.base.work import Actor
from jamb.store.credentials import rotations
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.notices import notices

BY_POLICY = Actor("service", "policy", "The policy", "Rotation by policy")
AT_ONCE = 200
_IDS = UUID("6b0f2f0e-3c0f-4a0b-9d7e-0c5b1f2a7d11")


def open_by_policy(
    backend: Backend, slug: str, words: Callable[[str, str, Added], bytes], now: datetime
) -> tuple[int, list[str]]:
    """Open the rotations that the policy wants opened, and note a link for each owner's next mail.

    Secrets alone, of clients with a live owner: what only the client can make, or nobody would receive, is told as
    ending soon instead.

    Args:
        words: what a handover link shall show, from the names of client and directory and what was added.

    Returns:
        how many were opened, and why others could not be.
    """
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        if not directory.policy.rotation_opens_days:
            return 0, []
        due = _due(session, directory, now)
    opened, failed = 0, []
    for row, name in due:
        terms = HandoverTerms(MOST_HOURS, note="The secret that follows the one that expires soon.")
        said = follows(row.hint)
        try:
            open_rotation(
                Act(backend, directory, BY_POLICY, now),
                row.client_id,
                row.id,
                None,
                None,
                None,
                _rotation_id(row),
                delivery=to_owners(backend, terms, words, said, Delivered()),
            )
        except AlreadyOpened:
            # Another process was first.
            continue
        except JambError as error:
            failed.append(f"{name}: {error.message}")
        else:
            opened += 1
    return opened, failed


def _due(session: Session, directory: Directory, now: datetime) -> list[tuple[CredentialRow, str]]:
    """Return the secrets to rotate, a bounded number, with the client's name.

    What was opened by policy once, and given up by a person, is passed over.
    """
    lead = timedelta(days=directory.policy.rotation_opens_days)
    found: list[tuple[CredentialRow, str]] = []
    after: rotations.Position | None = None
    while len(found) < AT_ONCE:
        page = rotations.ending(
            session, directory.id, client_ids=None, now=now, until=now + lead, after=after, limit=AT_ONCE
        )
        if not page:
            break
        owners = notices.owners_to_tell(session, {row.client_id for row, _ in page}, answering=True)
        for row, name in page:
            assert row.expires_at is not None
            # As in the forecast: what lives for less than twice the lead would be rotated without end.
            begins = row.expires_at - min(lead, (row.expires_at - row.issued_at) / 2)
            wanted = row.kind == CredentialKind.SECRET.value and row.client_id in owners and begins <= now
            if wanted and session.get(rotations.RotationRow, _rotation_id(row)) is None:
                found.append((row, name))
            after = (row.expires_at, row.id)
    return found[:AT_ONCE]


def _rotation_id(row: CredentialRow) -> UUID:
    """Return the id of the rotation that the policy opens for a credential: of two processes that do, one does."""
    return uuid5(_IDS, str(row.id))


def follows(old: str) -> Callable[[Place, Added], str]:
    """Return the sentence in a mail that brings what follows another credential."""
    return lambda at, added: (
        f"“{at.client.name}”: {added.credential.hint} follows {old}; both are valid. "
        "Whoever of you opens the link has it"
    )
