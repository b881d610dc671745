"""The two kinds of shape: what is sent to the service, and what it answers."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated, Any, Generic, TypeVar

from pydantic import AfterValidator, AwareDatetime, BaseModel, BeforeValidator, ConfigDict, Field, ValidationError

from jamb.core.credentials.recipients import LONGEST_KEY
from jamb.core.errors import BadInput, Violation, shorten

ItemT = TypeVar("ItemT")
ModelT = TypeVar("ModelT", bound=BaseModel)


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


def checked(
    model: type[ModelT], body: Any, message: str = "The file does not have the shape it needs.", next_step: str = ""
) -> ModelT:
    """Return the content of a file in its shape. Raises `BadInput` naming each member that does not fit."""
    try:
        return model.model_validate(body)
    except ValidationError as error:
        violations = tuple(
            Violation(
                ".".join(map(str, fault["loc"])) or "file",
                shorten(str(fault.get("input"))),
                "no member of this name" if fault["type"] == "extra_forbidden" else fault["msg"],
            )
            for fault in error.errors()[:20]
        )
        raise BadInput(message, violations=violations, next_step=next_step) from error
