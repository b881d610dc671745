"""What is counted for those who watch the service: by directory, from the records as they stand."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlmodel import Session

from jamb.store.base.reading import Reading
from jamb.store.directory.sums import SumOf, totals

# Days left, as upper ends of ranges.
DAYS = (0, 1, 7, 14, 30, 90)
_CREDENTIALS = sa.text("""
    select directory.slug, credential.kind,
           case when withdrawn_at is not null then 'withdrawn'
                when expires_at <= :now then 'expired'
                when disabled_at is not null then 'disabled'
                when starts_at > :now then 'coming' else 'live' end as state,
           case when withdrawn_at is null and expires_at > :now
                then ceil(extract(epoch from expires_at - :now) / 86400)::int end as days_left,
           count(*)
    from credential join directory on directory.id = directory_id
    group by 1, 2, 3, 4
""")
_ATTEMPTS = sa.text("""
    select slug, outcome, sum(times) from attempt join directory on directory.id = directory_id group by 1, 2
""")
_ROTATIONS = sa.text("""
    select slug, case when overlap_ends_at < :now then 'past its overlap' else 'in overlap' end, count(*)
    from rotation join directory on directory.id = directory_id where ended is null group by 1, 2
""")
_QUEUE = sa.text("""
    select 'mail', count(*), min(made_at), count(*) filter (where failed <> '')
    from mail where sent_at is null
    union all
    select 'webhook', count(*), min(made_at), count(*) filter (where failed <> '') from push where sent_at is null
""")


_DUTIES = sa.text("""
    select slug, duty, failures from failing_duty join directory on directory.id = directory_id
""")


def failing_duties(session: Session) -> Sequence[Any]:
    return session.execute(_DUTIES).all()


def credentials(session: Session, now: datetime) -> Sequence[Any]:
    return session.execute(_CREDENTIALS, {"now": now}).all()


def attempts(session: Session) -> Sequence[Any]:
    return session.execute(_ATTEMPTS).all()


_LEDGERS = sa.text(
    "select slug, sequence from ledger_head join directory on directory.id = ledger_head.directory_id order by slug"
)


def ledgers(session: Session) -> Sequence[Any]:
    """Return how many entries each directory's ledger has."""
    return session.execute(_LEDGERS).all()


def open_rotations(session: Session, now: datetime) -> Sequence[Any]:
    return session.execute(_ROTATIONS, {"now": now}).all()


def queue(session: Session, now: datetime) -> Sequence[tuple[str, int, timedelta, int]]:
    """Return by carrier: how much waits, how long the oldest does, and how much was given up."""
    rows = session.execute(_QUEUE).all()
    return [(kind, waiting - dead, now - (oldest or now), dead) for kind, waiting, oldest, dead in rows]


_PEOPLE = sa.text("select count(*) from person where directory_id = :directory and active")


def people_in(session: Session, directory_id: UUID) -> int:
    return int(session.execute(_PEOPLE, {"directory": directory_id}).scalar_one())


def clients_in(directory_id: UUID) -> Reading[int]:
    """How many clients a directory has that are no parts of Jamb itself."""
    return totals(directory_id, SumOf.CLIENTS).then(lambda found: int(*found))
