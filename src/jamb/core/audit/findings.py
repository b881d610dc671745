"""What a rule says: which is wrong, by what evidence, how bad, and what to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import IntEnum

from jamb.core.audit.picture import ClientPicture
from jamb.core.policy import DirectoryPolicy


class Severity(IntEnum):
    """Ordered, so that a threshold can be compared."""

    LOW = 1
    MEDIUM = 2
    HIGH = 3

    @property
    def word(self) -> str:
        return self.name.lower()


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing wrong with one client. `(rule, client_id, subject)` is its identity over time."""

    rule: str
    client_id: str
    client_name: str
    subject: str
    severity: Severity
    title: str
    evidence: Mapping[str, str]
    mend: str


@dataclass(frozen=True, slots=True)
class Rule:
    """A self-describing check. `find` is pure: the picture, the policy and the moment are all it knows."""

    id: str
    title: str
    why: str
    reference: str
    find: Callable[[ClientPicture, DirectoryPolicy, datetime], Iterator[Finding]]
