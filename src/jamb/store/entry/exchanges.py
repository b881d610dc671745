"""Tokens that one API had exchanged to call another for the same person (RFC 8693): so that guards hear of their end.

A token that was exchanged belongs to what the person allowed first, and ends with it, and with every client by way of
which it came.
"""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, Text
from sqlalchemy.dialects.postgresql import ARRAY
from sqlmodel import Field, Session, SQLModel

from jamb.store.base.columns import moment


class ExchangeRow(SQLModel, table=True):
    """A client had tokens of an authorization exchanged for a resource; `expires_at`: of the last of them."""

    __tablename__ = "token_exchange"
    __table_args__ = (Index("exchange_at", "resource_id", "expires_at"), Index("exchange_by_end", "expires_at"))

    authorization_id: UUID = Field(
        sa_column=Column(ForeignKey("person_authorization.id", ondelete="CASCADE"), primary_key=True)
    )
    client_id: str = Field(foreign_key="client.id", primary_key=True, sa_type=Text)
    resource_id: UUID = Field(foreign_key="resource.id", primary_key=True)
    # The clients before it, the last one first: the last of all is whom the person allowed it.
    by_way_of: list[str] = Field(sa_column=Column(ARRAY(Text), primary_key=True))
    expires_at: datetime = moment()


_NOTE = """
INSERT INTO token_exchange (authorization_id, client_id, resource_id, by_way_of, expires_at)
VALUES (:authorization_id, :client_id, :resource_id, :by_way_of, :expires_at)
ON CONFLICT (authorization_id, client_id, resource_id, by_way_of)
DO UPDATE SET expires_at = greatest(token_exchange.expires_at, excluded.expires_at)
"""
# What ended of what was exchanged: the authorization, or a client by way of which it came.
_ENDED = """
SELECT exchange.client_id, held.person_id, max(moment) AS at
FROM token_exchange exchange
JOIN person_authorization held ON held.id = exchange.authorization_id
CROSS JOIN LATERAL (
    SELECT held.ended_at AS moment
    UNION ALL
    SELECT client.tokens_revoked_at FROM client WHERE client.id = ANY (exchange.by_way_of)
) ended
WHERE {condition}
GROUP BY exchange.client_id, held.person_id
ORDER BY exchange.client_id, held.person_id
"""
EXCHANGES_ENDED = _ENDED.format(
    condition="exchange.resource_id = :resource_id AND exchange.expires_at > :lives AND moment > :since"
)
_ENDED_OF = _ENDED.format(condition="exchange.client_id = :client_id AND held.person_id = :person_id")


def note(session: Session, row: ExchangeRow) -> None:
    """Keep that a token was exchanged; a later one of the same way lets it be kept for longer."""
    session.execute(sa.text(_NOTE), row.model_dump())


def narrowed_at(session: Session, client_id: str, person_id: UUID) -> datetime | None:
    """Return when exchanged tokens of a client for a person ended last: guards refuse what is older."""
    values = {"client_id": client_id, "person_id": person_id}
    found = session.execute(sa.text(_ENDED_OF), values).all()
    return found[0][2] if found else None
