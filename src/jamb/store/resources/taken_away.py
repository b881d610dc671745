"""What was taken away at a resource since a moment, in one statement, and by what a change of it is known.

A mark says all of it in a few characters. While guards wait, those of all their resources are read by one statement.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, NamedTuple
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session

from jamb.store.entry.authorizations import PEOPLE_NARROWED
from jamb.store.entry.exchanges import EXCHANGES_ENDED

# Each consent and role for itself: what waited for another change bears the earlier moment, and comes after it.
_TAKEN = f"""
SELECT 'client' AS what, id AS client_id, NULL::uuid AS person_id, tokens_revoked_at AS at
  FROM client WHERE directory_id = :directory AND tokens_revoked_at > :since
UNION ALL
SELECT 'held', client_id, NULL::uuid, greatest(CASE WHEN expires_at <= :now THEN expires_at END, narrowed_at)
  FROM consent
 WHERE resource_id = :resource_id
   AND ((expires_at > :since AND expires_at <= :now) OR narrowed_at > :since)
UNION ALL
SELECT 'held', held.client_id, NULL::uuid,
       greatest(CASE WHEN held.expires_at <= :now THEN held.expires_at END, held.narrowed_at)
  FROM role_assignment held JOIN role ON role.id = held.role_id
 WHERE role.resource_id = :resource_id AND held.client_id IS NOT NULL
   AND ((held.expires_at > :since AND held.expires_at <= :now) OR held.narrowed_at > :since)
UNION ALL
SELECT 'person', NULL, person_id, at FROM ({PEOPLE_NARROWED}) AS narrowed (person_id, at)
UNION ALL
SELECT 'access', client_id, person_id, max(ended_at)
  FROM person_authorization WHERE resource_id = :resource_id AND ended_at > :since GROUP BY client_id, person_id
UNION ALL
SELECT 'access', client_id, person_id, at FROM ({EXCHANGES_ENDED}) AS ended (client_id, person_id, at)
"""  # noqa: S608 - statements of our own
# Moments as numbers: their text depends on the session's time zone.
_MARK = """
SELECT md5(coalesce(string_agg(line, ';' ORDER BY line), ''))
  FROM (SELECT concat_ws(',', what, client_id, person_id, extract(epoch FROM at)) AS line FROM {taken} AS taken) lines
"""
_TAKEN_AND_MARK = f"""
WITH taken AS MATERIALIZED ({_TAKEN})
SELECT what, client_id, person_id, at FROM taken
UNION ALL SELECT '', ({_MARK.format(taken="taken")}), NULL, NULL
"""  # noqa: S608 - statements of our own


def _of_asked(statement: str) -> str:
    """Return a statement about one resource as one about each that is asked for, for the driver."""
    places = {"resource_id": "asked.id", "directory": "asked.directory_id"}
    return re.sub(r"(?<!:):(\w+)", lambda found: places.get(found[1], f"%({found[1]})s"), statement)


# Parameters: ids, and those of the statement above.
MARKS = f"""
SELECT asked.id, ({_of_asked(_MARK.format(taken=f"({_TAKEN})"))}), asked.revision, asked.collections_revision
  FROM resource asked WHERE asked.id = ANY (%(ids)s)
"""  # noqa: S608 - statements of our own


class Mark(NamedTuple):
    """By what a guard's answer is known from another: what was taken away, and the versions of what else it says."""

    taken_away: str
    revision: int
    collections_revision: int


def marks_in(rows: Sequence[tuple[Any, ...]]) -> dict[UUID, Mark]:
    """Return the marks by resource, of the rows of `MARKS`. A resource that was removed has none."""
    return {row[0]: Mark(*row[1:]) for row in rows}


@dataclass(slots=True)
class TakenAway:
    """Each with the moment at which it was taken away, but for `held`.

    Attributes:
        clients: whose tokens were all revoked.
        held: clients of which a consent or a role at the resource ended, or was changed.
        people: who may do less than they did, whatever it is.
        access: what a person had allowed a client at the resource, or what was exchanged for it.
        mark: the first part of a `Mark`.
    """

    mark: str = ""
    clients: list[tuple[str, datetime]] = field(default_factory=list)
    held: set[str] = field(default_factory=set)
    people: list[tuple[UUID, datetime]] = field(default_factory=list)
    access: list[tuple[str, UUID, datetime]] = field(default_factory=list)


def taken_away(
    session: Session, directory_id: UUID, resource_id: UUID, since: datetime, now: datetime, lives: datetime
) -> TakenAway:
    """Return what was taken away between two moments, each kind in order.

    Args:
        lives: of exchanged tokens that had run out by then nobody needs to hear.
    """
    values = {"directory": directory_id, "resource_id": resource_id, "since": since, "now": now, "lives": lives}
    found = TakenAway()
    rows = session.execute(sa.text(_TAKEN_AND_MARK), values)
    for what, client_id, person_id, at in sorted(map(tuple, rows), key=_place):
        match what:
            case "":
                found.mark = client_id
            case "client":
                found.clients.append((client_id, at))
            case "held":
                found.held.add(client_id)
            case "person":
                found.people.append((person_id, at))
            case _:
                found.access.append((client_id, person_id, at))
    return found


def _place(row: tuple[Any, ...]) -> tuple[str, str, str]:
    return row[0], row[1] or "", str(row[2])
