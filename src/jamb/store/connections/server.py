"""What the database server says of itself: its clock, whether it takes changes, what our role may do there."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import NamedTuple

import sqlalchemy as sa
from sqlmodel import Session

# Beyond it what runs out, is due or counts would be judged wrong.
MOST_APART_SECONDS = 60.0
READ_CLOCK = "SELECT clock_timestamp()"


def clock_fault(of_database: datetime) -> str:
    """Return what is wrong with this machine's clock; empty: it agrees with the database's within a minute."""
    apart = (datetime.now(UTC) - of_database).total_seconds()
    if abs(apart) <= MOST_APART_SECONDS:
        return ""
    way = "ahead of" if apart > 0 else "behind"
    return f"this machine's clock is {abs(apart):.0f} seconds {way} the database's: set both by a time server"


def clock_apart(session: Session) -> str:
    return clock_fault(session.execute(sa.text(READ_CLOCK)).scalar_one())


class Server(NamedTuple):
    version: str
    most_connections: int
    read_only: bool


def server_of(session: Session) -> Server:
    version = session.execute(sa.text("SHOW server_version")).scalar_one()
    most = session.execute(sa.text("SHOW max_connections")).scalar_one()
    return Server(version, int(most), is_read_only(session))


def is_read_only(session: Session) -> bool:
    """Say whether the server takes no changes: a standby, or one that is set so."""
    return bool(session.execute(sa.text("SELECT current_setting('transaction_read_only') = 'on'")).scalar_one())


_TABLES = """
SELECT count(*) FROM pg_tables
WHERE schemaname = 'public'
  AND EXISTS (
    SELECT FROM unnest(ARRAY['SELECT', 'INSERT', 'UPDATE', 'DELETE']) wanted
    WHERE NOT has_table_privilege(format('%I.%I', schemaname, tablename), wanted)
  )
"""


def missing_rights(session: Session) -> list[str]:
    """Return a sentence for each right that the service needs and its role has not."""
    found = session.execute(
        sa.text(
            "SELECT has_database_privilege(current_database(), 'CREATE'), has_schema_privilege('public', 'CREATE'), "
            f"({_TABLES}), current_user"
        )
    ).one()
    creates, makes_tables, closed, role = found
    faults = []
    if not creates:
        faults.append(f"{role} may make no schema in the database: grant create on database")
    if not makes_tables:
        faults.append(f"{role} may make no table in schema public: grant create on schema public")
    if closed:
        faults.append(f"{role} may not read and change {closed} tables: let it own them")
    return faults
