"""Right-sizing: what would do instead of what is held, tried in a dry run, put in force."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field, StrictBool

from jamb.wire.base.shapes import WHOLE, Answered, Moment, Names, Sent
from jamb.wire.base.text import MaybeSaid, Said
from jamb.wire.resources.reach import Reach


class HeldPermission(Answered):
    permission: str
    title: str
    reach: Reach


class Miss(Answered):
    """Calls that a narrower grant would have refused; an empty `object`: one that lies in no collection, or none."""

    operation: str
    object: str
    calls: int
    last_at: Moment


class DryRun(Answered):
    """A narrower grant that is tried in a dry run. `missed`: how many calls it would have refused since it began."""

    id: UUID
    client_id: str
    client_name: str
    resource: str
    before: list[HeldPermission]
    after: list[HeldPermission]
    started_at: Moment
    started_by: str
    dry_run_until: Moment
    missed: int
    misses: list[Miss]


class SmallerGrant(Answered):
    """The smallest grant that fits the use.

    `kept`: held beside it and left alone; `done`: operations that were seen and count; `touched`: known objects that
    were; null: nobody reports them. `exact`: proven smallest.
    """

    held: list[HeldPermission]
    kept: list[HeldPermission]
    after: list[HeldPermission]
    done: Names
    touched: list[str] | None
    no_longer: Names
    narrower: Names
    weight_before: float
    weight_after: float
    exact: bool


class Rightsizing(Answered):
    """`proposal` null: `why_not` says why there is none. `request_id`: of one that waits, for the dry_run."""

    client_id: str
    client_name: str
    resource: str
    proposal: SmallerGrant | None
    why_not: str
    dry_run: DryRun | None
    request_id: UUID | None = None


class DryRunStart(Sent):
    """`days`: how long; null: as the policy says."""

    days: Annotated[int, Field(strict=True, ge=0, le=3650), WHOLE] | None = None
    reason: MaybeSaid = ""


class RightsizingRequest(Sent):
    """`reason`: for whoever decides. `days`: how long to try it out, if it is not already; null: as the policy says."""

    reason: Said
    days: Annotated[int, Field(strict=True, ge=0, le=3650), WHOLE] | None = None


class Enforcement(Sent):
    """`force`: although its time is not over, or something was missed."""

    force: StrictBool = False
    reason: MaybeSaid = ""
