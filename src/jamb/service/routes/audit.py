"""The audit."""

from __future__ import annotations

from fastapi import APIRouter, Depends

from jamb.actions import audit
from jamb.core.audit import RULES
from jamb.service.callers import Now, TheOffice, may
from jamb.wire import audit as wire

router = APIRouter(prefix="/api/v1/directories/{directory}/audit", tags=["audit"])


@router.get("", dependencies=[Depends(may("audit.read"))])
def run_audit(directory: str, office: TheOffice, now: Now) -> wire.Audit:
    """Findings of all rules over all clients, worst first."""
    found = audit.run_audit(office.premises, directory, now)
    return wire.Audit(
        directory=found.directory,
        at=found.at,
        clients=found.clients,
        findings=[wire.finding_of(one) for one in found.findings],
        rules=[wire.Rule(id=rule.id, title=rule.title, why=rule.why, reference=rule.reference) for rule in RULES],
    )
