"""What a round of notices looks at: what is new since the last one, and every hour all that stands.

A record changes with an entry of the ledger, which says of which client; what time alone brings comes at known moments.
"""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.store.notices import rounds
from jamb.store.notices.rounds import News, NoticeRoundRow

# What is older was told, or is told no more.
TOLD_OF = timedelta(days=2)
# Whatever came to be known in another way than by time and the ledger is told after this time.
WHOLE_EVERY = timedelta(hours=1)
# Uses and tries are kept some time after they were made, and clocks of processes differ.
_LATE = timedelta(minutes=2)
# So many directories in which nothing is new are visited in a round: what time and use alone bring there is found some
# rounds later.
MOST_QUIET = 100
# If more clients than this were changed, all are looked at.
MOST_CHANGED = 2000


def directories_to_visit(backend: Backend, now: datetime) -> list[str]:
    """Return the directories in which something is new, then those that were not visited for longest."""
    with Session(backend.engine) as session:
        found = rounds.directories(session, now)
    quiet = [slug for slug, news in found if not news]
    return [slug for slug, news in found if news] + quiet[:MOST_QUIET]


def since_last(session: Session, directory_id: UUID, now: datetime, *, whole: bool) -> tuple[News, NoticeRoundRow]:
    """Return what the round that begins now looks at, and what is kept of it when it is done."""
    before = rounds.find(session, directory_id)
    # Read before anything that is told: what is changed meanwhile is the next round's.
    sequence = rounds.last_sequence(session, directory_id)
    clients = None
    if before is not None and not whole and timedelta() <= now - before.whole_at < WHOLE_EVERY:
        clients = _changed_clients(session, directory_id, before.sequence)
    if before is None or clients is None:
        here = NoticeRoundRow(directory_id=directory_id, sequence=sequence, told_at=now, whole_at=now)
        return all_that_stands(now), here
    here = NoticeRoundRow(directory_id=directory_id, sequence=sequence, told_at=now, whole_at=before.whole_at)
    return News(min(before.told_at, now) - _LATE, clients, now - TOLD_OF), here


def all_that_stands(now: datetime) -> News:
    return News(now - TOLD_OF, None, now - TOLD_OF)


def _changed_clients(session: Session, directory_id: UUID, after: int) -> list[str] | None:
    """Return the clients that were changed since; None where something else was, or too many."""
    changed = rounds.changed(session, directory_id, after, MOST_CHANGED + 1)
    clients = [client for client in changed if client is not None]
    return clients if len(clients) == len(changed) <= MOST_CHANGED else None
