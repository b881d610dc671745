"""Initial access tokens: with one, software registers clients of its own (RFC 7591 section 3)."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

from pydantic import Field

from jamb.core.clients.initial_access import DEFAULT_DAYS, LABEL_LONGEST, MOST_DAYS, MOST_USES, InitialAccessState
from jamb.wire.base.shapes import WHOLE, Answered, Moment, Sent
from jamb.wire.base.text import NAMED
from jamb.wire.clients.clients import Reference


class NewInitialAccess(Sent):
    """`label`: who is given it, or what for. `uses`: how many clients it registers.

    `owners`: of what is registered with it; whoever makes it, if empty.
    """

    label: Annotated[str, Field(min_length=1, max_length=LABEL_LONGEST), NAMED]
    uses: Annotated[int, Field(strict=True, ge=1, le=MOST_USES), WHOLE] = 1
    days: Annotated[int, Field(strict=True, ge=1, le=MOST_DAYS), WHOLE] = DEFAULT_DAYS
    owners: Annotated[list[Reference], Field(max_length=50)] = Field(default_factory=list)


class InitialAccess(Answered):
    """`token`: shown once, when it is made; else empty. `used`: how many clients were registered with it."""

    id: UUID
    label: str
    made_at: Moment
    made_by: str
    uses: int
    used: int
    expires_at: Moment
    state: InitialAccessState
    token: str
