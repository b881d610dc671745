"""From when on what was taken away counts: from the moment at which its change could be seen, not at which it began.

A change bears the moment at which its caller was let in. Until it is committed tokens are made of what held before, and
say the second in which they were made. So a change that is committed in a later second has its moments moved to that.
"""

from __future__ import annotations

import logging
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

TRIES = 3
_log = logging.getLogger("jamb.taking_effect")
# Moments are moved within the time of the change alone: what others took away meanwhile counts as late as this, too.
# The client comes first: by its row one change of it waits for another.
_MOVED = {
    "client": "narrowed_at = greatest(narrowed_at, :seen), tokens_revoked_at = CASE "
    "WHEN tokens_revoked_at >= :began THEN greatest(tokens_revoked_at, :seen) ELSE tokens_revoked_at END "
    "WHERE id = ANY (:client_ids)",
    "consent": "narrowed_at = :seen "
    "WHERE client_id = ANY (:client_ids) AND narrowed_at >= :began AND narrowed_at < :seen",
    "role_assignment": "narrowed_at = :seen "
    "WHERE client_id = ANY (:client_ids) AND narrowed_at >= :began AND narrowed_at < :seen",
    "person_narrowed": "at = :seen FROM person WHERE person.id = person_id AND at >= :began AND at < :seen "
    "AND (CAST(:directory_id AS uuid) IS NULL OR person.directory_id = :directory_id)",
    "person_authorization": "ended_at = :seen WHERE ended_at >= :began AND ended_at < :seen "
    "AND (CAST(:directory_id AS uuid) IS NULL OR directory_id = :directory_id)",
}


@dataclass(frozen=True, slots=True)
class Taking:
    """A change that may have taken something away.

    Attributes:
        began: the moment that it bears.
        directory_id: in which people may have lost something; None: in whichever.
        client_ids: of which something was taken away.
    """

    began: datetime
    directory_id: UUID | None = None
    client_ids: Collection[str] = ()


def count_from(bind: Engine | Connection, taking: Taking, seen: datetime) -> None:
    """Have what a change took away count from when it was seen to be committed, where that is a later second.

    It is done already: where this fails, the log says so, and tokens that were made meanwhile live on to their end.
    """
    if int(seen.timestamp()) <= int(taking.began.timestamp()):
        return
    values = {
        "began": taking.began,
        "seen": seen,
        "directory_id": taking.directory_id,
        "client_ids": sorted(taking.client_ids),
    }
    for left in reversed(range(TRIES)):
        try:
            with Session(bind) as session:
                for table, moved in _MOVED.items():
                    session.execute(sa.text(f"UPDATE {table} SET {moved}"), values)  # noqa: S608 - of our own
                session.commit()
            return
        except SQLAlchemyError as error:
            if not left:
                _log.error("what was taken away counts from %s only: %s", taking.began, type(error).__name__)
