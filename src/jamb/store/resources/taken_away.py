"""What was taken away at a resource since a moment, in one statement: each of its guards asks every second."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session

from jamb.store.entry.authorizations import PEOPLE_NARROWED
from jamb.store.entry.exchanges import EXCHANGES_ENDED

_TAKEN = f"""
SELECT 'client' AS what, id AS client_id, NULL::uuid AS person_id, tokens_revoked_at AS at
  FROM client WHERE directory_id = :directory AND tokens_revoked_at > :since
UNION ALL
SELECT DISTINCT 'held', client_id, NULL::uuid, NULL::timestamptz
  FROM consent
 WHERE resource_id = :resource_id
   AND ((expires_at > :since AND expires_at <= :now) OR narrowed_at > :since)
UNION ALL
SELECT DISTINCT 'held', held.client_id, NULL::uuid, NULL::timestamptz
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


@dataclass(slots=True)
class TakenAway:
    """Each with the moment at which it was taken away, but for `held`.

    Attributes:
        clients: whose tokens were all revoked.
        held: clients of which a consent or a role at the resource ended, or was changed.
        people: who may do less than they did, whatever it is.
        access: what a person had allowed a client at the resource, or what was exchanged for it.
    """

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
    for what, client_id, person_id, at in sorted(map(tuple, session.execute(sa.text(_TAKEN), values)), key=_place):
        match what:
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
