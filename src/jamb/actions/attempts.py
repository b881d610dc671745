"""Read how a client's token requests ended."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from jamb.actions.act import Act
from jamb.actions.backend import find_client
from jamb.core.attempts import MENDS, Outcome
from jamb.store import usage


@dataclass(frozen=True, slots=True)
class AttemptView:
    id: int
    at: datetime
    outcome: Outcome
    detail: str
    hint: str
    resource: str
    address: str
    user_agent: str
    times: int
    mend: str


@dataclass(frozen=True, slots=True)
class AttemptPage:
    items: tuple[AttemptView, ...]
    next: int | None


def list_attempts(act: Act, client_id: str, *, failed_only: bool, before: int | None, limit: int) -> AttemptPage:
    with act.read() as session:
        find_client(session, act.directory, client_id)
        rows = usage.attempts_of(
            session, act.directory.id, client_id, failed_only=failed_only, before=before, limit=limit + 1
        )
        views = tuple(_view(row) for row in rows[:limit])
        return AttemptPage(views, views[-1].id if len(rows) > limit else None)


def _view(row: usage.AttemptRow) -> AttemptView:
    assert row.id is not None
    outcome = Outcome(row.outcome)
    return AttemptView(
        row.id,
        row.at,
        outcome,
        row.detail,
        row.hint,
        row.resource,
        row.address,
        row.user_agent,
        row.times,
        MENDS[outcome],
    )
