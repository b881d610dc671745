"""Reports of use, from guards."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends

from jamb.actions import usage
from jamb.actions.access import Admitted
from jamb.core.ladder import Use
from jamb.service.callers import Now, TheOffice, may
from jamb.wire import usage as wire

router = APIRouter(prefix="/api/v1/directories/{directory}/usage", tags=["usage"])


@router.post("")
def report_usage(
    sent: wire.UsageReport, admitted: Annotated[Admitted, Depends(may("usage.report"))], office: TheOffice, now: Now
) -> wire.UsageCounted:
    """Count a batch of used operations, once."""
    uses = [
        (one.client_id, Use(one.operation, one.kind, one.last_at.date(), one.calls, one.last_at)) for one in sent.uses
    ]
    counted = usage.report(office.premises, admitted, sent.resource, sent.batch, uses, now)
    return wire.UsageCounted(counted=counted)
