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


class Today(Answered):
    """`decided` are the reader's own requests that ended lately. `waiting` has the first of `waiting_in_all` clients.

    `excess` is the unused share (0 to 1) of granted weight old enough to be judged; null when there is none.
    """

    at: Moment
    clients: int
    ladder: LadderCount
    waiting: list[Waiting]
    waiting_in_all: int
    horizon: list[Ending]
    findings: dict[str, int]
    excess: float | None
    granted_weight: float
    unused_weight: float
    trend: list[ExcessOnDay]
    recent: list[LedgerEntry]
    requests: list[ConsentRequest]
    decided: list[ConsentRequest]
