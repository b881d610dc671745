"""Whether an access token whose signature fits counts still, as the guards of resources have it."""

from __future__ import annotations

from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.core.authorization.exchange import ways_of
from jamb.core.clients.clients import ClientState
from jamb.core.directory.directories import Directory
from jamb.store.clients import clients
from jamb.store.entry import authorizations as store


def still_counts(session: Session, directory: Directory, claims: Mapping[str, Any], now: datetime) -> bool:
    """Tell whether nothing of it was taken back: the directory, its clients, the person, what they allowed."""
    issued = datetime.fromtimestamp(claims["iat"], UTC)
    if directory.suspended:
        return False
    for client_id in ways_of(claims):
        client = clients.by_id(session, directory.id, client_id)
        if client is None or client.state != ClientState.LIVE:
            return False
        if client.tokens_revoked_at is not None and issued <= client.tokens_revoked_at:
            return False
    if "sid" not in claims:
        return True
    narrowed = store.people_narrowed_since(session, directory.id, issued, now)
    return store.live(session, UUID(claims["sid"])) and claims["sub"] not in {
        str(person_id) for person_id, _ in narrowed
    }
