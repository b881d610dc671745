"""Findings mended from where they are read; who could take over what; the audit by hand; evidence to take along."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from fastapi import Query
from fastapi.responses import StreamingResponse

from jamb.actions import mends, sweep, takeovers
from jamb.actions.act import Act
from jamb.core.audit.mends import MendInput
from jamb.core.audit.takeover import Node
from jamb.service.bundle import MEDIA_TYPE, write_bundle
from jamb.service.callers import TheRuntime, may
from jamb.service.routing import api_router
from jamb.wire import audit as audit_wire
from jamb.wire import mends as wire
from jamb.wire import takeovers as ways

router = api_router("/api/v1/directories/{directory}/audit", tags=["audit"])
_MEND = "/findings/{finding}/mend"
_CHUNK = 1 << 16


@router.get(_MEND)
def read_mend(
    act: Annotated[Act, may("findings.read-mend")],
    finding: UUID,
) -> wire.MendPreview:
    """What the mend of a finding would do, and whether the caller may carry it out. Changes nothing."""
    found = mends.preview_mend(act, finding)
    compared, mending = found.comparison, found.mending
    return wire.MendPreview(
        text=found.finding.mend,
        by_hand=mending is None,
        title=mending.title if mending is not None else "",
        needs=mending.needs if mending is not None else MendInput.NOTHING,
        words=list(found.words),
        resource=found.catalogue.name if found.catalogue is not None else "",
        no_longer=list(compared.no_longer) if compared is not None else None,
        narrower=list(compared.narrower) if compared is not None else None,
        collections=list(found.tree.collections) if found.tree is not None else [],
        why_not=found.why_not,
    )


@router.post(_MEND)
def carry_out_mend(
    finding: UUID,
    sent: wire.MendSent,
    act: Annotated[Act, may("findings.mend")],
) -> wire.Mended:
    """Carry out the mend of a finding. What it does is decided as if it was asked for by itself."""
    said = mends.Said(sent.reason.strip(), sent.login.strip(), sent.reach.value() if sent.reach is not None else None)
    return wire.Mended(done=mends.mend(act, finding, said))


@router.get("/takeovers")
def read_takeovers(
    act: Annotated[Act, may("takeovers.read")],
    most: Annotated[int, Query(ge=1, le=500)] = 50,
) -> ways.Takeovers:
    """The shortest ways from weak people and clients to strong ones, and which single change parts most."""
    found = takeovers.read_takeovers(act, most)
    return ways.Takeovers(
        weak_below=found.weak_below,
        strong_from=found.strong_from,
        pairs=found.found.pairs,
        ways=[
            ways.TakeoverWay(
                source=_node(one.source),
                steps=[
                    ways.TakeoverStep(by=arrow.by, cut=arrow.cut, to=_node(found.nodes[arrow.target]))
                    for arrow in one.arrows
                ],
            )
            for one in found.found.ways
        ],
        cuts=[ways.TakeoverCut(cut=one.cut, words=one.words, parts=one.parts) for one in found.found.cuts],
    )


@router.post("/evaluation")
def look_again(act: Annotated[Act, may("audit.look-again")], sent: audit_wire.Evaluation) -> audit_wire.Evaluated:
    """Look at some of what changed or came due; `anew`: have every client looked at again. Ask until none is left."""
    if sent.anew:
        sweep.look_at_all(act.backend, act.slug)
    done = sweep.sweep(act.backend, act.slug, act.now, sent.at_most)
    return audit_wire.Evaluated(looked_at=done.looked_at, left=done.left)


@router.get("/bundle", response_class=StreamingResponse)
def read_bundle(act: Annotated[Act, may("audit.bundle")], runtime: TheRuntime) -> StreamingResponse:
    """The evidence: reports, every registration, reviews and the ledger's head, under a signed manifest."""
    made = write_bundle(runtime, act)

    def parts() -> object:
        with made:
            while part := made.read(_CHUNK):
                yield part

    headers = {"Content-Disposition": f'attachment; filename="{act.slug}-evidence-{act.now:%Y-%m-%d}.zip"'}
    return StreamingResponse(parts(), media_type=MEDIA_TYPE, headers=headers)  # type: ignore[arg-type]


def _node(one: Node) -> ways.TakeoverNode:
    return ways.TakeoverNode(id=one.id, kind=one.kind, name=one.name, weight=one.weight)
