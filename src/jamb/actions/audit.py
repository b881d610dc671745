"""Run the audit over a directory: every client that is not part of Jamb itself, all rules, read set-wise."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session

from jamb.actions.premises import Premises, find_directory
from jamb.core import audit
from jamb.store import pictures


@dataclass(frozen=True, slots=True)
class AuditReport:
    directory: str
    at: datetime
    clients: int
    findings: tuple[audit.Finding, ...]


def run_audit(premises: Premises, slug: str, now: datetime) -> AuditReport:
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        loaded = pictures.load(session, directory.id, directory.policy, now)
        findings = audit.worst_first(audit.evaluate((one.picture for one in loaded), directory.policy, now))
        return AuditReport(directory.name, now, len(loaded), tuple(findings))
