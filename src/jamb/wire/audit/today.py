"""The first page's numbers."""

from __future__ import annotations

from jamb.wire.audit.audit import ExcessOnDay
from jamb.wire.base.shapes import Answered, Moment
from jamb.wire.clients.clients import LadderCount
from jamb.wire.consent.requests import ConsentRequest
from jamb.wire.directory.ledger import LedgerEntry


class Waiting(Answered):
    client_id: str
    client_name: str
    permissions: list[str]
    since: Moment


class Ending(Answered):
    client_id: str
    client_name: str
    hint: str
    ends: Moment
    last_used_at: Moment | None


class WeekOfEndings(Answered):
    """Credentials that expire in a week. `week`: counted from 0, which begins now. `first`: of `credentials` a few."""

    week: int
    credentials: int
    first: list[Ending]


class Overlap(Answered):
    """A rotation under way: both credentials work until then."""

    client_id: str
    client_name: str
    hint: str
    opened_at: Moment
    overlap_ends_at: Moment


class EndingSoon(Answered):
    """Credentials that expire within the policy's warning; `in_use`: those that were used in the last seven days."""

    days: int
    credentials: int
    in_use: int


class Today(Answered):
    """`decided` are the reader's own requests that ended lately. `waiting` has the first of `waiting_in_all` clients.

    `horizon` has the weeks of the coming year in which credentials expire, `overlaps` the first of `overlaps_in_all`
    rotations under way. `excess` is the unused share (0 to 1) of granted weight old enough to be judged; null when
    there is none.
    """

    at: Moment
    clients: int
    ladder: LadderCount
    waiting: list[Waiting]
    waiting_in_all: int
    requests_in_all: int
    soon: EndingSoon
    horizon: list[WeekOfEndings]
    overlaps: list[Overlap]
    overlaps_in_all: int
    findings: dict[str, int]
    excess: float | None
    granted_weight: float
    unused_weight: float
    trend: list[ExcessOnDay]
    recent: list[LedgerEntry]
    requests: list[ConsentRequest]
    decided: list[ConsentRequest]
