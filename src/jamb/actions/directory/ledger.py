"""Read the ledger and verify it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from jamb.actions.base.act import Act
from jamb.core.errors import NotFound
from jamb.core.ledger import Entry, Fault, verify
from jamb.store.directory import ledger


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


def read_ledger(act: Act, *, client_id: str | None, before: int | None, limit: int) -> LedgerPage:
    with act.read() as session:
        rows = ledger.page(session, act.directory.id, client_id=client_id, before=before, limit=limit + 1)
        shown = rows[:limit]
        more = shown[-1].sequence if len(rows) > limit else None
        return LedgerPage(tuple((row.entry(), row.hash) for row in shown), more)


def verify_ledger(act: Act) -> Verification:
    """Walk the directory's whole chain against one snapshot, so that entries written meanwhile do not disturb it."""
    with act.read() as session:
        session.connection(execution_options={"isolation_level": "REPEATABLE READ"})
        head = ledger.head(session, act.directory.id)
        if head is None:
            raise NotFound(f"{act.directory.name} has no ledger.")
        fault = verify(
            ledger.walk(session, act.directory.id), head.sequence, head.hash, head.seal, act.backend.sealer.ledger_key
        )
        return Verification(act.now, head.sequence, head.hash, fault)
