"""Findings and rules."""

from __future__ import annotations

from datetime import date
from enum import StrEnum
from typing import Annotated, Any
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.core.audit.excess import Excess as CoreExcess
from jamb.core.audit.findings import Family, RemedyKind
from jamb.core.audit.findings import Finding as CoreFinding
from jamb.core.audit.findings import Rule as CoreRule
from jamb.core.audit.reports import Reported, fingerprint
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent
from jamb.wire.base.text import MaybeSaid, Said


class Severity(StrEnum):
    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"


class Finding(Answered):
    """Something that is wrong with a client, as it stands.

    `act` and `target` say the remedy to programs; `fingerprint` is the same in every report.
    """

    rule: str
    client_id: str
    client_name: str
    subject: str
    severity: Severity
    title: str
    evidence: dict[str, str]
    remedy: str
    act: RemedyKind
    target: str
    fingerprint: str


class KeptFinding(Finding):
    """A finding with its history.

    `returned`: how often it came back; `resolved_at`: when it was resolved; `waived_until`: it is waived until then;
    `assigned_to`: who sees to it, `note`: what was said to them when it was given, `answer`: what they say.
    """

    id: UUID
    first_seen_at: Moment
    returned: int
    resolved_at: Moment | None
    waived_until: Moment | None
    waived_by: str
    waived_reason: str
    assigned_to: str
    assigned_at: Moment | None
    assigned_by: str
    note: str
    answer: str
    answered_at: Moment | None


class Rule(Answered):
    """`when`: exactly when something is found. `how_bad`: by what one finding is worse than another of the same rule.

    `found`, `passed`: examples of what is found, and of what only looks like it. Then how many findings it has;
    `worst`, `oldest`: of those that are open.
    """

    id: str
    family: Family
    title: str
    why: str
    when: str
    how_bad: str
    reference: str
    found: list[str]
    passed: list[str]
    open: int
    waived: int
    resolved: int
    worst: Severity | None
    oldest: Moment | None


class Excess(Answered):
    """Weights of what is granted long enough to be judged, what of it is used and not, and what is too early to tell.

    `share`: of what is judged, the part that is not used; null: nothing can be judged yet.
    """

    granted: float
    used: float
    unused: float
    early: float
    share: float | None


class ExcessOnDay(Excess):
    day: date


class RankedExcess(Excess):
    """`key`: the client's id, the person's id or the resource's name."""

    key: str
    title: str


class Age(Answered):
    """How many open findings of a severity are up to so many days old and older than the band before; 0: older."""

    severity: Severity
    days: int
    count: int


class EndBand(Answered):
    """How many live credentials expire within so many days and not in the band before; 0: later; null: never."""

    days: int | None
    count: int


class FindingGroup(Answered):
    """`key`: of the rule, client or person; empty: of clients that nobody owns."""

    key: str
    title: str
    count: int
    worst: Severity
    oldest: Moment


class Audit(Answered):
    """A directory's posture.

    `open`: findings that count, by severity; `waived`: those that are waived; `resolved`: gone in the last thirty days.
    `left`: clients that are still to be looked at, because much changed at once.
    """

    directory: str
    at: Moment
    clients: int
    left: int
    open: dict[str, int]
    waived: int
    resolved: int
    ages: list[Age]
    ending: list[EndBand]
    excess: Excess
    trend: list[ExcessOnDay]
    rules: list[Rule]


class Evaluation(Sent):
    """`anew`: have every client looked at again. `at_most`: how many are looked at before it is answered."""

    anew: StrictBool = False
    at_most: Annotated[int, Field(strict=True, ge=0, le=5000), WHOLE] = 500


class Evaluated(Answered):
    """`left`: clients that changed or came due and are still to be looked at."""

    looked_at: int
    left: int


class Waiver(Sent):
    """`days` for which the finding is waived, and why. It comes back when they are over."""

    days: Annotated[int, Field(strict=True, ge=1, le=366), WHOLE]
    reason: Said


class FindingAssignment(Sent):
    """`person`: the login of who sees to it; empty: nobody."""

    person: Annotated[str, Field(max_length=200)]
    note: MaybeSaid = ""


class FindingAnswer(Sent):
    """What whoever sees to a finding did or found."""

    words: Said


def rule_of(rule: CoreRule) -> dict[str, Any]:
    """Return the members of a rule that do not depend on what it found."""
    names = ("id", "family", "title", "why", "when", "how_bad", "reference")
    return {name: getattr(rule, name) for name in names} | {"found": list(rule.found), "passed": list(rule.passed)}


def excess_of(found: CoreExcess) -> dict[str, float | None]:
    """Return the members of an excess."""
    return {
        "granted": found.granted_weight,
        "used": round(found.used_weight, 3),
        "unused": found.unused_weight,
        "early": found.early_weight,
        "share": found.share,
    }


def finding_of(finding: CoreFinding) -> Finding:
    """Return a finding as a dossier shows it."""
    return Finding(
        severity=Severity(finding.severity.word),
        evidence=dict(finding.evidence),
        fingerprint=fingerprint(finding.rule, finding.client_id, finding.subject),
        **{name: getattr(finding, name) for name in _SAME},
    )


def kept_of(found: Reported, **history: object) -> KeptFinding:
    names = (
        *_SAME,
        "first_seen_at",
        "returned",
        "waived_until",
        "waived_by",
        "waived_reason",
        "assigned_to",
        "note",
        "answer",
    )
    values = {name: getattr(found, name) for name in names} | history
    return KeptFinding(
        severity=Severity(found.severity.word), evidence=dict(found.evidence), fingerprint=found.fingerprint, **values
    )


_HISTORY = (
    "first_seen_at",
    "returned",
    "waived_until",
    "waived_by",
    "waived_reason",
    "assigned_to",
    "note",
    "answer",
)
_SAME = ("rule", "client_id", "client_name", "subject", "title", "remedy", "act", "target")
