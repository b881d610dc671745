"""Findings and rules."""

from __future__ import annotations

from enum import StrEnum

from jamb.core import audit
from jamb.wire.base import Answered, Moment


class Severity(StrEnum):
    LOW = "low"
    MEDIUM = "medium"
    HIGH = "high"


class Finding(Answered):
    rule: str
    client_id: str
    client_name: str
    subject: str
    severity: Severity
    title: str
    evidence: dict[str, str]
    mend: str


class Rule(Answered):
    id: str
    title: str
    why: str
    reference: str


class Audit(Answered):
    """Findings worst first, with the rules that were applied."""

    directory: str
    at: Moment
    clients: int
    findings: list[Finding]
    rules: list[Rule]


def finding_of(finding: audit.Finding) -> Finding:
    return Finding(
        rule=finding.rule,
        client_id=finding.client_id,
        client_name=finding.client_name,
        subject=finding.subject,
        severity=Severity(finding.severity.word),
        title=finding.title,
        evidence=dict(finding.evidence),
        mend=finding.mend,
    )
