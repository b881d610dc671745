"""The audit: findings with their history, reports for other tools, waivers and assignments."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import APIRouter, Depends, Query
from fastapi.responses import Response

from jamb import __version__
from jamb.actions import audit
from jamb.actions.access import Admitted
from jamb.core.audit import RULES
from jamb.core.audit.reports import ReportForm, report
from jamb.service.callers import Now, TheOffice, may
from jamb.wire import audit as wire

router = APIRouter(prefix="/api/v1/directories/{directory}/audit", tags=["audit"])
_ONE = "/findings/{finding}"
_RULE = ("id", "family", "title", "why", "how_bad", "reference")


@router.get("", dependencies=[Depends(may("audit.read"))])
def run_audit(
    directory: str,
    office: TheOffice,
    now: Now,
    gone: Annotated[bool, Query(description="Those mended in the last thirty days, too")] = False,
) -> wire.Audit:
    """Findings of all rules over all clients, worst first. What changed is looked at before it is answered."""
    found = audit.run_audit(office.premises, directory, now, with_gone=gone)
    return wire.Audit(
        directory=found.directory,
        at=found.at,
        clients=found.clients,
        left=found.left,
        findings=[_kept(one) for one in found.findings],
        rules=[wire.Rule(**{name: getattr(rule, name) for name in _RULE}) for rule in RULES],
    )


@router.get("/report", dependencies=[Depends(may("audit.report"))], response_class=Response)
def read_report(directory: str, office: TheOffice, now: Now, form: ReportForm) -> Response:
    """The same for others: SARIF 2.1.0, CSV (RFC 4180), a JSON object a line, or a page. What is waived says so."""
    found = audit.run_audit(office.premises, directory, now)
    place = found.directory if form is ReportForm.HTML else found.slug
    text = report(form, place, __version__, RULES, [one.found for one in found.findings], now)
    headers = {"Content-Disposition": f'attachment; filename="{found.slug}-audit.{form.value}"'}
    return Response(text, media_type=form.media_type, headers=headers)


@router.post(f"{_ONE}/waiver")
def waive(
    finding: UUID,
    sent: wire.Waiver,
    admitted: Annotated[Admitted, Depends(may("findings.waive"))],
    office: TheOffice,
    now: Now,
) -> wire.KeptFinding:
    """Bear a finding knowingly for some days, with a reason."""
    return _kept(audit.waive(office.premises, admitted.directory, finding, sent.days, sent.reason, admitted.actor, now))


@router.post(f"{_ONE}/waiver/ending")
def end_waiver(
    finding: UUID, admitted: Annotated[Admitted, Depends(may("findings.end-waiver"))], office: TheOffice, now: Now
) -> wire.KeptFinding:
    """Count a waived finding again."""
    return _kept(audit.end_waiver(office.premises, admitted.directory, finding, admitted.actor, now))


@router.post(f"{_ONE}/assignment")
def assign(
    finding: UUID,
    sent: wire.FindingAssignment,
    admitted: Annotated[Admitted, Depends(may("findings.assign"))],
    office: TheOffice,
    now: Now,
) -> wire.KeptFinding:
    """Have a person see to a finding."""
    return _kept(
        audit.assign(office.premises, admitted.directory, finding, sent.person, sent.note, admitted.actor, now)
    )


def _kept(one: audit.FindingView) -> wire.KeptFinding:
    return wire.kept_of(one.found, id=one.id, gone_at=one.gone_at, note=one.answer)
