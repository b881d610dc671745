"""Reports of use, from guards."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.permissions import AccessKind
from jamb.wire.base import Answered, Moment, Sent


class UsedOperation(Sent):
    client_id: Annotated[str, Field(max_length=80)]
    operation: Annotated[str, Field(max_length=80)]
    kind: AccessKind = AccessKind.APPLICATION
    calls: Annotated[int, Field(ge=1, le=10**9)]
    last_at: Moment


class UsageReport(Sent):
    """A batch; sent again with the same id it is counted once."""

    batch: UUID
    resource: Annotated[str, Field(max_length=300)]
    uses: Annotated[list[UsedOperation], Field(min_length=1, max_length=5000)]


class UsageCounted(Answered):
    counted: int
