"""From when on what was taken away counts: from the moment at which its change could be seen, not at which it began.

A change is noted with the moment at which its caller was let in. Until it is committed tokens are made of what held
before, and say the second in which they were asked for. So a change that is committed in a later second has its moments
moved to that.
"""

from __future__ import annotations

import logging
from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Connection, Engine
from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from jamb.store.connections import deadline

# Another change may have taken the same rows in another order.
TRIES = 2
_log = logging.getLogger("jamb.taking_effect")
# Of a client whose rights were narrowed; it comes first: by its row one change of it waits for another.
_CLIENTS = (
    """
UPDATE client SET narrowed_at = greatest(narrowed_at, :seen), tokens_revoked_at =
       CASE WHEN tokens_revoked_at >= :noted THEN greatest(tokens_revoked_at, :seen) ELSE tokens_revoked_at END
 WHERE id = ANY (:client_ids)
""",
    """
UPDATE consent SET narrowed_at = :seen
 WHERE client_id = ANY (:client_ids) AND narrowed_at >= :noted AND narrowed_at < :seen
""",
    """
UPDATE role_assignment SET narrowed_at = :seen
 WHERE client_id = ANY (:client_ids) AND narrowed_at >= :noted AND narrowed_at < :seen
""",
)
# Of several changes a person has the last moment alone: so also what others took away while this one went on is moved.
_PEOPLE = """
UPDATE person_narrowed SET at = :seen FROM person
 WHERE person.id = person_id AND person.directory_id = :directory_id AND at >= :since AND at < :seen
"""
# An access ends once.
_ACCESSES = "UPDATE person_authorization SET ended_at = :seen WHERE ended_at = :noted"


class Opened(NamedTuple):
    """In which directory a change was opened, and when: what it takes from people is noted with that moment."""

    directory_id: UUID
    since: datetime


@dataclass(frozen=True, slots=True)
class Taking:
    """A change that may have taken something away.

    Attributes:
        noted: the moment with which it is noted.
        client_ids: of which something was taken away.
        opened: None: it took nothing from people but what they had allowed.
    """

    noted: datetime
    client_ids: Collection[str] = ()
    opened: Opened | None = None

    def statements(self, seen: datetime) -> list[tuple[str, dict[str, Any]]]:
        """Return what moves its moments, in an order that is always the same."""
        moments: dict[str, Any] = {"noted": self.noted, "seen": seen}
        found = [(_ACCESSES, moments)]
        if self.client_ids:
            mine = moments | {"client_ids": sorted(self.client_ids)}
            found += [(statement, mine) for statement in _CLIENTS]
        if self.opened is not None:
            found.append((_PEOPLE, {"seen": seen, **self.opened._asdict()}))
        return found


def count_from(bind: Engine | Connection, taking: Taking, seen: datetime) -> None:
    """Have what a change took away count from when it was seen to be committed, where that is a later second.

    The change is done, and stays so where this fails: the log says that tokens made meanwhile live on to their end.
    """
    if int(seen.timestamp()) <= int(taking.noted.timestamp()):
        return
    for left in reversed(range(TRIES)):
        try:
            with deadline.without(), Session(bind) as session:
                for statement, values in taking.statements(seen):
                    session.execute(sa.text(statement), values)
                session.commit()
            return
        except SQLAlchemyError as error:
            if not left:
                _log.error("what was taken away counts from %s only: %s", taking.noted, type(error).__name__)
