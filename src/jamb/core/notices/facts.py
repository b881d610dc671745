"""What is told: each fact has a key, and nobody is told the same key twice."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass
from datetime import datetime, timedelta
from enum import StrEnum
from uuid import UUID


class NoticeKind(StrEnum):
    ENDS_SOON = "credential-ends-soon"
    EXPIRED_TRIED = "expired-credential-tried"
    ROTATION_DELIVERED = "rotation-delivered"
    ROTATION_UNSEEN = "rotation-unseen"
    ROTATION_OPENED = "rotation-opened"
    ROTATION_OVERDUE = "rotation-overdue"
    ROTATION_ENDED = "rotation-ended"
    REQUEST_WAITS = "request-waits"
    REQUEST_DECIDED = "request-decided"
    LINK_TRIED = "handover-tried-again"
    REVIEW_ASKS = "review-asks"
    REVIEW_OVER = "review-over"
    FINDING_GIVEN = "finding-given"
    FINDING_ANSWERED = "finding-answered"
    DRY_RUN_OVER = "dry-run-over"
    AUDIT_WEEKLY = "audit-weekly"
    SIGN_IN_LINK = "sign-in-link"


class Audience(StrEnum):
    """Who is told beside people who are named."""

    OWNERS = "owners"
    CUSTODIANS = "custodians"
    APPROVERS = "approvers"
    AUDITORS = "auditors"
    STEWARDS = "stewards"


# These do not wait for the next digest.
_URGENT = frozenset(
    {
        NoticeKind.EXPIRED_TRIED,
        NoticeKind.ROTATION_OVERDUE,
        NoticeKind.ROTATION_DELIVERED,
        NoticeKind.REQUEST_WAITS,
        NoticeKind.LINK_TRIED,
        NoticeKind.SIGN_IN_LINK,
    }
)
# A last week and a last day, beside the policy's notice.
_LATER_STAGES = (7, 1)
LONGEST_WAIT = timedelta(hours=6)
MOST_TRIES = 12


@dataclass(frozen=True, slots=True)
class Fact:
    """Something to tell. `key` names it for ever; `people`: told beside the audiences; `path`: where it is seen.

    `else_to`: who is told of a client that nobody owns.
    """

    key: str
    kind: NoticeKind
    client_id: str
    client_name: str
    words: str
    path: str
    audiences: Collection[Audience]
    people: Collection[UUID] = ()
    else_to: Audience = Audience.CUSTODIANS


def is_urgent(kind: NoticeKind) -> bool:
    return kind in _URGENT


def stage_of(ends: datetime, now: datetime, warn_days: int) -> int | None:
    """Return at which stage before its end a credential is, in days: the policy's notice, a week or a day.

    None while it is farther away. A stage that was slept through is not told afterwards.
    """
    left = ends - now
    return next((stage for stage in _stages(warn_days) if left <= timedelta(days=stage)), None)


def coming_of_stage(since: datetime, now: datetime, warn_days: int) -> list[tuple[datetime, datetime]]:
    """Return when that must end which came to a stage between two moments: after the first of each, not after the
    second.
    """
    return [(since + timedelta(days=stage), now + timedelta(days=stage)) for stage in _stages(warn_days)]


def _stages(warn_days: int) -> list[int]:
    return sorted({warn_days, *(stage for stage in _LATER_STAGES if stage < warn_days)})


def wait_after(tries: int) -> timedelta | None:
    """Return how long to wait after so many failed tries; None: no more."""
    if tries >= MOST_TRIES:
        return None
    return min(timedelta(seconds=30 << tries), LONGEST_WAIT)
