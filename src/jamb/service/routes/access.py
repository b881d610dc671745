"""Explanations of decisions."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Depends, Query

from jamb.actions import access
from jamb.service.callers import Now, TheOffice, may
from jamb.wire import access as wire

router = APIRouter(prefix="/api/v1/directories/{directory}/clients/{client}", tags=["access"])


@router.get("/explanation", dependencies=[Depends(may("explanations.read"))])
def explain(
    directory: str,
    client: str,
    resource: Annotated[str, Query(max_length=300)],
    operation: Annotated[str, Query(max_length=80)],
    office: TheOffice,
    now: Now,
) -> wire.Explanation:
    """Whether the client may do the operation as itself, every check behind it, and the smallest mend."""
    found = access.explain_access(office.premises, directory, client, resource, operation, now)
    return wire.Explanation(
        client_id=found.client_id,
        client_name=found.client_name,
        resource=found.resource,
        operation=found.operation,
        kind=found.kind,
        allowed=found.explanation.decision.allowed,
        checks=[wire.Check.model_validate(check) for check in found.explanation.decision.checks],
        mend=[wire.mend_step_of(step, found.client_id, found.resource) for step in found.explanation.mend],
    )
