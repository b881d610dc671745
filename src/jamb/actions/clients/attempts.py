"""Read how a client's token requests ended."""

from __future__ import annotations

from dataclasses import dataclass

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.core.clients.attempts import REMEDIES, Outcome
from jamb.store.resources import usage
from jamb.wire.credentials.credentials import Attempt


@dataclass(frozen=True, slots=True)
class AttemptPage:
    items: tuple[Attempt, ...]
    next: int | None


def list_attempts(act: Act, client_id: str, *, failed_only: bool, before: int | None, limit: int) -> AttemptPage:
    with act.read() as session:
        find_client(session, act.directory, client_id)
        rows = usage.attempts_of(
            session, act.directory.id, client_id, failed_only=failed_only, before=before, limit=limit + 1
        )
        views = tuple(_view(row) for row in rows[:limit])
        return AttemptPage(views, views[-1].id if len(rows) > limit else None)


def _view(row: usage.AttemptRow) -> Attempt:
    assert row.id is not None
    outcome = Outcome(row.outcome)
    return Attempt(
        id=row.id,
        at=row.at,
        outcome=outcome,
        detail=row.detail,
        hint=row.hint,
        resource=row.resource,
        address=row.address,
        user_agent=row.user_agent,
        times=row.times,
        remedy=REMEDIES[outcome],
    )
