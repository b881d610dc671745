"""Acts that wait for another person's yes: kept once what was begun is undone."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.core.consent.agreements import ACT_WORDS, ActKind, Proposal
from jamb.core.consent.requests import RequestState
from jamb.core.errors import NeedsAgreement
from jamb.store.base.actor import Actor
from jamb.store.consent import requests
from jamb.store.directory import directories

# The longest sentence that is kept with what waits.
WHY_LONGEST = 2000
_IN_PART = frozenset({ActKind.CATALOGUE.value, ActKind.COLLECTIONS.value})


@dataclass(frozen=True, slots=True)
class Waiting:
    """What is to wait, who asked for it and when, and who could agree, in words."""

    proposal: Proposal
    actor: Actor
    now: datetime
    could: str


def keep(session: Session, directory_id: UUID, waits: Waiting) -> tuple[requests.RequestRow, bool]:
    """Keep what is to wait; return it, and whether it is new: who asks again waits by the same request."""
    wanted, actor, now = waits.proposal, waits.actor, waits.now
    policy = session.get_one(directories.DirectoryRow, directory_id).policy_of()
    digest = wanted.digest()
    row = requests.waiting_act(session, directory_id, actor.id, digest, now)
    if row is not None and row.weight >= wanted.weight:
        return row, False
    if row is not None:
        # It weighs more by now: whoever said yes did so to less.
        row.state, row.decided_at = RequestState.WITHDRAWN.value, now
        session.add(row)
    row = requests.RequestRow(
        id=uuid4(),
        directory_id=directory_id,
        client_id=wanted.client_id,
        ask_ids=[],
        requested_by_id=actor.id,
        requested_by=actor.name,
        requested_at=now,
        due_at=now + timedelta(days=policy.request_days),
        reason=ACT_WORDS[wanted.act],
        weight=wanted.weight,
        state=RequestState.WAITING.value,
        act=wanted.act.value,
        args={**wanted.args, "actor": actor.record()},
        digest=digest,
        subject=wanted.subject,
        why=wanted.why[:WHY_LONGEST],
        needed=wanted.approvers,
    )
    session.add(row)
    return row, True


def said(error: NeedsAgreement, row: requests.RequestRow, waits: Waiting) -> NeedsAgreement:
    """Return the error with what waits, until when, and who can agree."""
    # Of a changed resource, what lets nobody do more acts at once.
    rest = "all else acts already" if row.act in _IN_PART else "nothing was changed yet"
    told = NeedsAgreement(
        f"{error.message} It waits at the consent desk until {row.due_at:%Y-%m-%d}; {rest}.",
        next_step=" ".join(filter(None, (waits.could, error.next_step))),
    )
    told.made = {"kind": "request", "id": str(row.id), "name": row.reason}
    return told
