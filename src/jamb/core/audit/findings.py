"""What a rule says: which is wrong, by what evidence, how bad, and what to do."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass
from datetime import datetime
from enum import IntEnum, StrEnum

from jamb.core.audit.picture import ClientPicture
from jamb.core.directory.policy import DirectoryPolicy


class Severity(IntEnum):
    """Ordered, so that a threshold can be compared."""

    LOW = 1
    MEDIUM = 2
    HIGH = 3

    @property
    def word(self) -> str:
        return self.name.lower()


class Family(StrEnum):
    PRIVILEGE = "privilege"
    CREDENTIALS = "credentials"
    REGISTRATION = "registration"


class RemedyKind(StrEnum):
    """How a finding is resolved. Each is something that whoever has the right does in one step, on the finding's
    target.

    LOOK: there is nothing to carry out before somebody has found something out.
    """

    ROTATE = "rotate"
    WITHDRAW_CREDENTIAL = "withdraw-credential"
    ADD_KEY = "add-key"
    CLOSE_ROTATION = "close-rotation"
    END_CONSENT = "end-consent"
    WITHDRAW_ROLE = "withdraw-role"
    NARROW_REACH = "narrow-reach"
    REPLACE_PERMISSIONS = "replace-permissions"
    ASK = "ask"
    DROP_ASK = "drop-ask"
    NARROW_PEOPLE = "narrow-people"
    CHANGE_REGISTRATION = "change-registration"
    VOUCH = "vouch"
    NAME_OWNER = "name-owner"
    DISABLE = "disable"
    LOOK = "look"


@dataclass(frozen=True, slots=True)
class Finding:
    """One thing wrong with one client. `(rule, client_id, subject)` is its identity over time.

    Nothing in it changes by time alone, but at the moments that `next_change` tells: words name days, not spans.

    Attributes:
        evidence: names and values that a sceptic can check.
        remedy: what to do, in words; `act` and `target` say the same to programs.
    """

    rule: str
    client_id: str
    client_name: str
    subject: str
    severity: Severity
    title: str
    evidence: Mapping[str, str]
    remedy: str
    act: RemedyKind = RemedyKind.LOOK
    target: str = ""


Find = Callable[[ClientPicture, DirectoryPolicy, datetime], Iterator[Finding]]


@dataclass(frozen=True, slots=True)
class Rule:
    """A self-describing check. `find` is pure: the picture, the policy and the moment are all it knows.

    Attributes:
        when: exactly when something is found, with every threshold and exception, in the words of the page's terms.
        how_bad: by what a finding is worse than another of the same rule.
        reference: where the demand comes from.
        found, passed: examples, each of which a test holds: what is found, and what only looks like it.
    """

    id: str
    family: Family
    title: str
    why: str
    when: str
    how_bad: str
    reference: str
    find: Find
    found: tuple[str, ...]
    passed: tuple[str, ...] = ()


def finding(  # noqa: PLR0913 - the members of a finding
    rule: str,
    client: ClientPicture,
    subject: str,
    severity: Severity,
    title: str,
    evidence: Mapping[str, str],
    remedy: str,
    act: RemedyKind = RemedyKind.LOOK,
    target: str = "",
) -> Finding:
    """Return a finding about a client."""
    return Finding(rule, client.id, client.name, subject, severity, title, evidence, remedy, act, target)


def day(moment: datetime | None) -> str:
    """Return a moment as people say it in a finding: the day."""
    return "never" if moment is None else f"{moment.day} {moment:%B %Y}"


def on(moment: datetime | None) -> str:
    """Return the day of a moment as evidence: of what happens often, only another day is news."""
    return "never" if moment is None else moment.date().isoformat()


def exact(moment: datetime | None) -> str:
    """Return a moment as evidence."""
    return "never" if moment is None else moment.isoformat(timespec="seconds")
