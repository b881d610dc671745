"""Read the ledger and verify it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session

from jamb.actions.premises import Premises, find_directory
from jamb.core.errors import NotFound
from jamb.core.ledger import Entry, Fault, verify
from jamb.store import ledger


@dataclass(frozen=True, slots=True)
class LedgerPage:
    """Entries with their hashes, newest first; `next` is the sequence to continue below, when there is more."""

    items: tuple[tuple[Entry, bytes], ...]
    next: int | None


@dataclass(frozen=True, slots=True)
class Verification:
    at: datetime
    entries: int
    head: bytes
    fault: Fault | None


def read_ledger(premises: Premises, slug: str, *, client_id: str | None, before: int | None, limit: int) -> LedgerPage:
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        rows = ledger.page(session, directory.id, client_id=client_id, before=before, limit=limit + 1)
        shown = rows[:limit]
        more = shown[-1].sequence if len(rows) > limit else None
        return LedgerPage(tuple((row.entry(), row.hash) for row in shown), more)


def verify_ledger(premises: Premises, slug: str, now: datetime) -> Verification:
    """Walk the directory's whole chain against one snapshot, so that entries written meanwhile do not disturb it."""
    with Session(premises.engine) as session:
        session.connection(execution_options={"isolation_level": "REPEATABLE READ"})
        directory = find_directory(session, slug)
        head = ledger.head(session, directory.id)
        if head is None:
            raise NotFound(f"{directory.name} has no ledger.")
        fault = verify(
            ledger.walk(session, directory.id), head.sequence, head.hash, head.seal, premises.sealer.ledger_key
        )
        return Verification(now, head.sequence, head.hash, fault)
