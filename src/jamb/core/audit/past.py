"""What was done to a client, as the ledger tells it: the part by which ways of before can be found."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

# How far back rules look: a year, as reviews do.
LOOKED_BACK = timedelta(days=365)
# How long after others agreed to an act it is done.
_CARRIED_WITHIN = timedelta(days=90)


@dataclass(frozen=True, slots=True)
class Done:
    """One entry: what was done when, by whom; `by_kind` is person, client or service. `subject`, `before`, `after`:
    as they stand in the ledger."""

    action: str
    at: datetime
    by_kind: str
    by_id: str
    by: str
    subject: Mapping[str, str] = field(default_factory=dict)
    before: Mapping[str, Any] = field(default_factory=dict)
    after: Mapping[str, Any] = field(default_factory=dict)

    @property
    def by_somebody(self) -> bool:
        """Tell whether a person or a client did it, and not Jamb itself."""
        return self.by_kind in {"person", "client"}


def agreed(done: Done, entries: Sequence[Done]) -> bool:
    """Tell whether another person had agreed to it: a yes to an act of the same person, shortly before."""
    return any(
        one.action in {"agreement.given", "agreement.first-yes"}
        and one.after.get("asked by") == done.by
        and timedelta() <= done.at - one.at <= _CARRIED_WITHIN
        for one in entries
    )
