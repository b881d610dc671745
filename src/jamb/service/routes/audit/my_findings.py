"""Findings that are given to people to see to, and their answers."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from jamb.actions.audit import findings as audit
from jamb.actions.base.act import Act
from jamb.service.callers import may
from jamb.service.http.routing import api_router
from jamb.wire.audit import audit as wire

router = api_router("/api/v1/directories/{directory}", tags=["audit"])


@router.get("/my-findings")
def my_findings(act: Annotated[Act, may("findings.mine")]) -> list[wire.KeptFinding]:
    """The open findings that the caller is to see to, worst first."""
    if act.actor.kind != "person":
        return []
    return audit.given_to(act, UUID(act.actor.id))


@router.post("/clients/{client}/findings/{finding}/answer")
def answer_finding(
    client: str,
    finding: UUID,
    sent: wire.FindingAnswer,
    act: Annotated[Act, may("findings.answer")],
) -> wire.KeptFinding:
    """Say what was done or found, as whoever sees to it. It can be answered anew."""
    return audit.answer(act, client, finding, sent.words)
