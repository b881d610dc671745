"""Findings resolved from where they are read; escalation paths; the audit by hand; evidence to take along."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Query
from fastapi.responses import StreamingResponse

from jamb.actions.audit import escalation_paths, remedies
from jamb.actions.audit import evaluation as sweep
from jamb.actions.base.act import Act
from jamb.core.audit.remedies import RemedyInput
from jamb.service.bundle import MEDIA_TYPE, write_bundle
from jamb.service.callers import TheRuntime, may
from jamb.service.http.routing import api_router
from jamb.wire.audit import audit as audit_wire
from jamb.wire.audit import escalation as wire_escalation
from jamb.wire.audit import remedies as wire

router = api_router("/api/v1/directories/{directory}/audit", tags=["audit"])
_REMEDY = "/findings/{finding}/remedy"
_CHUNK = 1 << 16


@router.get(_REMEDY)
def read_remedy(
    act: Annotated[Act, may("findings.read-remedy")],
    finding: UUID,
) -> wire.RemedyPreview:
    """What the remedy of a finding would do, and whether the caller may carry it out. Changes nothing."""
    found = remedies.preview_remedy(act, finding)
    compared, remedy = found.comparison, found.remedy
    return wire.RemedyPreview(
        text=found.finding.remedy,
        by_hand=remedy is None,
        title=remedy.title if remedy is not None else "",
        needs=remedy.needs if remedy is not None else RemedyInput.NOTHING,
        words=list(found.words),
        resource=found.catalogue.name if found.catalogue is not None else "",
        no_longer=list(compared.no_longer) if compared is not None else None,
        narrower=list(compared.narrower) if compared is not None else None,
        collections=list(found.tree.collections) if found.tree is not None else [],
        why_not=found.why_not,
    )


@router.post(_REMEDY)
def carry_out_remedy(
    finding: UUID,
    sent: wire.RemedySent,
    act: Annotated[Act, may("findings.resolve")],
) -> wire.Resolved:
    """Carry out the remedy of a finding. What it does is decided as if it was asked for by itself."""
    said = remedies.Said(
        sent.reason.strip(), sent.login.strip(), sent.reach.value() if sent.reach is not None else None
    )
    return wire.Resolved(done=remedies.resolve(act, finding, said))


@router.get("/escalation-paths")
def read_escalation_paths(
    act: Annotated[Act, may("escalation.read", heavy=True)],
    most: Annotated[int, Query(ge=1, le=500)] = escalation_paths.MOST_KEPT,
) -> wire_escalation.Escalation:
    """The shortest escalation paths from weak people and clients to strong ones, and the one change that closes the
    most of them.
    """
    return escalation_paths.read_escalation_paths(act, most)


@router.post("/evaluation")
def look_again(act: Annotated[Act, may("audit.look-again")], sent: audit_wire.Evaluation) -> audit_wire.Evaluated:
    """Look at some of what changed or came due; `anew`: have every client looked at again. Ask until none is left."""
    if sent.anew:
        sweep.look_at_all(act.backend, act.slug)
    done = sweep.sweep(act.backend, act.slug, act.now, sent.at_most)
    return audit_wire.Evaluated(looked_at=done.looked_at, left=done.left)


@router.get("/bundle", response_class=StreamingResponse)
def read_bundle(act: Annotated[Act, may("audit.bundle", heavy=True)], runtime: TheRuntime) -> StreamingResponse:
    """The evidence: reports, every registration, reviews and the ledger's head, under a signed manifest."""
    made = write_bundle(runtime, act)

    def parts() -> object:
        with made:
            while part := made.read(_CHUNK):
                yield part

    headers = {"Content-Disposition": f'attachment; filename="{act.slug}-evidence-{act.now:%Y-%m-%d}.zip"'}
    return StreamingResponse(parts(), media_type=MEDIA_TYPE, headers=headers)  # type: ignore[arg-type]
