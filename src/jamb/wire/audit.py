"""Findings and rules."""

from __future__ import annotations

from enum import StrEnum
from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core import audit
from jamb.core.audit.reports import Reported, fingerprint
from jamb.wire.base import Answered, Moment, Sent


class Severity(StrEnum):
    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"


class Finding(Answered):
    """Something that is wrong with a client, as it stands.

    `act` and `target` say the mend to programs; `fingerprint` is the same in every report.
    """

    rule: str
    client_id: str
    client_name: str
    subject: str
    severity: Severity
    title: str
    evidence: dict[str, str]
    mend: str
    act: audit.Act
    target: str
    fingerprint: str


class KeptFinding(Finding):
    """A finding with its history.

    `returned`: how often it came back; `gone_at`: when it was mended; `waived_until`: it is borne knowingly until then;
    `assigned_to`: who sees to it, `note`: what was said to them or by them.
    """

    id: UUID
    first_seen_at: Moment
    returned: int
    gone_at: Moment | None
    waived_until: Moment | None
    waived_by: str
    waived_reason: str
    assigned_to: str
    note: str


class Rule(Answered):
    """`how_bad`: by what one finding is worse than another of the same rule."""

    id: str
    family: audit.Family
    title: str
    why: str
    how_bad: str
    reference: str


class Audit(Answered):
    """Findings worst first, those that are waived last, with the rules that were applied.

    `left`: clients that are still to be looked at, because much changed at once.
    """

    directory: str
    at: Moment
    clients: int
    left: int
    findings: list[KeptFinding]
    rules: list[Rule]


class Waiver(Sent):
    """`days` for which the finding is borne, and why. It comes back when they are over."""

    days: Annotated[int, Field(strict=True)]
    reason: Annotated[str, Field(max_length=500)]


class FindingAssignment(Sent):
    """`person`: the login of who sees to it; empty: nobody."""

    person: Annotated[str, Field(max_length=200)]
    note: Annotated[str, Field(max_length=500)] = ""


def finding_of(finding: audit.Finding) -> Finding:
    """Return a finding as a dossier shows it."""
    return Finding(
        severity=Severity(finding.severity.word),
        evidence=dict(finding.evidence),
        fingerprint=fingerprint(finding.rule, finding.client_id, finding.subject),
        **{name: getattr(finding, name) for name in _SAME},
    )


def kept_of(found: Reported, **history: object) -> KeptFinding:
    names = (*_SAME, "first_seen_at", "returned", "waived_until", "waived_by", "waived_reason", "assigned_to")
    values = {name: getattr(found, name) for name in names} | history
    return KeptFinding(
        severity=Severity(found.severity.word), evidence=dict(found.evidence), fingerprint=found.fingerprint, **values
    )


_SAME = ("rule", "client_id", "client_name", "subject", "title", "mend", "act", "target")
