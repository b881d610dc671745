"""Findings of the audit: borne knowingly, given to somebody, and taken to other tools."""

from __future__ import annotations

from uuid import UUID

from jamb.client.noun import Noun
from jamb.core.audit.reports import ReportForm
from jamb.wire.audit import KeptFinding


class Findings(Noun):
    def waive(self, finding_id: UUID, *, days: int, reason: str) -> KeptFinding:
        """Bear a finding knowingly for some days; then it comes back."""
        body = {"days": days, "reason": reason}
        return self._transport.one(KeptFinding, "POST", f"/audit/findings/{finding_id}/waiver", json=body)

    def end_waiver(self, finding_id: UUID) -> KeptFinding:
        return self._transport.one(KeptFinding, "POST", f"/audit/findings/{finding_id}/waiver/ending")

    def assign(self, finding_id: UUID, person: str, *, note: str = "") -> KeptFinding:
        """Have the person of a login see to a finding; an empty login takes it off again."""
        body = {"person": person, "note": note}
        return self._transport.one(KeptFinding, "POST", f"/audit/findings/{finding_id}/assignment", json=body)

    def report(self, form: ReportForm) -> str:
        """Return the audit as SARIF 2.1.0, CSV, a JSON object a line, or a page; what is waived says so."""
        return self._transport.text("GET", "/audit/report", params={"form": form.value})
