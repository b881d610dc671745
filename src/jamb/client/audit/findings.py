"""The audit: posture, findings, their remedies, excess, escalation paths, and evidence to take along."""

from __future__ import annotations

import builtins
from collections.abc import Iterator
from itertools import islice
from pathlib import Path
from uuid import UUID

from jamb.client.base.section import Section, path_segment
from jamb.core.audit.reports import ReportForm
from jamb.wire.audit.audit import Evaluated, ExcessOnDay, FindingGroup, KeptFinding, RankedExcess, Severity
from jamb.wire.audit.escalation import Escalation
from jamb.wire.audit.remedies import RemedyPreview, Resolved
from jamb.wire.resources.reach import ReachSent


class Findings(Section):
    def list(
        self,
        *,
        which: str = "open",
        severity: Severity | None = None,
        min_severity: Severity | None = None,
        rule: str | None = None,
        client: str | None = None,
        owner: str | None = None,
        q: str | None = None,
        begins: str | None = None,
    ) -> Iterator[KeptFinding]:
        """Yield findings over all pages, worst first.

        Args:
            which: open, waived (for a while) or resolved (in the last thirty days).
            least: this bad or worse. client: an id. owner: the id of a person, or "none": clients without owners.
            begins: how the finding's id begins.
        """
        wanted = {
            "severity": severity,
            "min_severity": min_severity,
            "rule": rule,
            "client": client,
            "owner": owner,
            "q": q,
            "begins": begins,
        }
        params = {name: str(value) for name, value in wanted.items() if value is not None}
        return self._transport.pages(KeptFinding, "/audit/findings", {"which": which, "limit": 100, **params})

    def groups(self, by: str = "rule", *, which: str = "open") -> Iterator[FindingGroup]:
        """Yield groups of findings by rule, client or owner, the worst first."""
        return self._transport.pages(FindingGroup, "/audit/groups", {"by": by, "which": which, "limit": 100})

    def find(self, reference: str) -> KeptFinding | None:
        """Return the one finding whose id begins so; None when there is none, or several."""
        wanted = reference.strip()
        if not wanted:
            return None
        found = [one for which in ("open", "waived") for one in islice(self.list(which=which, begins=wanted), 2)]
        return found[0] if len(found) == 1 else None

    def preview_remedy(self, finding_id: UUID) -> RemedyPreview:
        """Return what the remedy would do, and whether one may carry it out. Changes nothing."""
        return self._transport.one(RemedyPreview, "GET", f"/audit/findings/{finding_id}/remedy")

    def resolve(self, finding_id: UUID, *, reason: str = "", login: str = "", reach: ReachSent | None = None) -> str:
        """Carry the remedy out; return what was done, in words. What must be said with it `preview_remedy` tells."""
        sent = reach.model_dump(mode="json") if reach is not None else None
        body = {"reason": reason, "login": login, "reach": sent}
        return self._transport.one(Resolved, "POST", f"/audit/findings/{finding_id}/remedy", json=body).done

    def waive(self, finding_id: UUID, *, days: int, reason: str) -> KeptFinding:
        """Waive a finding for some days; then it comes back."""
        body = {"days": days, "reason": reason}
        return self._transport.one(KeptFinding, "POST", f"/audit/findings/{finding_id}/waiver", json=body)

    def end_waiver(self, finding_id: UUID) -> KeptFinding:
        return self._transport.one(KeptFinding, "POST", f"/audit/findings/{finding_id}/waiver/ending")

    def assign(self, finding_id: UUID, person: str, *, note: str = "") -> KeptFinding:
        """Have the person of a login see to a finding; an empty login takes it off again."""
        body = {"person": person, "note": note}
        return self._transport.one(KeptFinding, "POST", f"/audit/findings/{finding_id}/assignment", json=body)

    def mine(self) -> builtins.list[KeptFinding]:
        """Return what the caller is to see to, worst first."""
        return self._transport.many(KeptFinding, "GET", "/my-findings")

    def answer(self, client_id: str, finding_id: UUID, words: str) -> KeptFinding:
        """Say what one did or found, as whoever sees to a finding."""
        path = f"/clients/{path_segment(client_id)}/findings/{finding_id}/answer"
        return self._transport.one(KeptFinding, "POST", path, json={"words": words})

    def excess(self, by: str = "client", *, limit: int = 50) -> builtins.list[RankedExcess]:
        """Return weight granted, used and unused by client, owner or resource, the most unused first."""
        return self._transport.many(RankedExcess, "GET", "/audit/excess", params={"by": by, "limit": limit})

    def trend(self, *, by: str | None = None, key: str = "", days: int = 90) -> builtins.list[ExcessOnDay]:
        """Return the excess at the end of each day: of the directory, or of one client, owner or resource."""
        params = {"key": key, "days": days, **({"by": by} if by is not None else {})}
        return self._transport.many(ExcessOnDay, "GET", "/audit/excess/trend", params=params)

    def escalation_paths(self, *, most: int = 50) -> Escalation:
        """Return the shortest escalation paths from weak people and clients to strong ones."""
        return self._transport.one(Escalation, "GET", "/audit/escalation-paths", params={"most": most})

    def look_again(self, *, anew: bool = False, at_most: int = 500) -> Evaluated:
        """Look at some of what changed or came due; call again until nothing is left."""
        return self._transport.one(Evaluated, "POST", "/audit/evaluation", json={"anew": anew, "at_most": at_most})

    def report(self, form: ReportForm) -> str:
        """Return the audit as SARIF 2.1.0, CSV, a JSON object a line, or a page; what is waived says so."""
        return self._transport.text("GET", "/audit/report", params={"form": form.value})

    def save_evidence(self, path: Path) -> int:
        """Write the signed evidence bundle to a file; return its size in bytes. `verify_evidence` reads it offline."""
        return self._transport.save("/audit/bundle", path)
