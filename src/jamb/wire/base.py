"""The two kinds of shape: what is sent to the service, and what it answers."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Generic, TypeVar

from pydantic import AfterValidator, AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field

from jamb.core.credentials.recipients import LONGEST_KEY

ItemT = TypeVar("ItemT")


class Sent(BaseModel):
    """A request body. Unknown fields are refused: a misspelt one must not be ignored."""

    model_config = ConfigDict(extra="forbid", str_max_length=2000)


class Answered(BaseModel):
    """An answer. Unknown fields are passed over: an older client library keeps working.

    What reads one is built when it is first read: the command line reads few of them, and starts sooner.
    """

    model_config = ConfigDict(from_attributes=True, extra="ignore", defer_build=True)


def _utc(value: datetime) -> datetime:
    return value.astimezone(UTC)


Moment = Annotated[AwareDatetime, AfterValidator(_utc)]
# A set of names, in an order that does not change from answer to answer.
Names = Annotated[list[str], BeforeValidator(sorted)]


# A public key that credentials are sealed to: a JWK (RFC 7517) or PEM. Empty: none.
RecipientKeyText = Annotated[str, Field(max_length=LONGEST_KEY)]


class Page(Answered, Generic[ItemT]):
    """One page of a list. `next` is the cursor of the page after it, also sent as a Link header (RFC 8288)."""

    items: list[ItemT]
    next: str | None = None
    total: int | None = None
