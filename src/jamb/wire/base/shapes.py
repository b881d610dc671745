"""The two kinds of shape: what is sent to the service, and what it answers."""

from __future__ import annotations

import re
from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Annotated, Any, ClassVar, Generic, Self, TypeVar

from pydantic import (
    AfterValidator,
    AwareDatetime,
    BaseModel,
    BeforeValidator,
    ConfigDict,
    Field,
    SecretStr,
    ValidationError,
    ValidationInfo,
    field_validator,
    model_validator,
)

from jamb.core.credentials.handover import LONGEST_KEY
from jamb.core.errors import BadInput, Violation, shorten
from jamb.core.text import LINE_PATTERN, LINES_PATTERN, ONE_LINE, SOME_LINES, line_fault, lines_fault, strings_in
from jamb.core.versions import version_of

ItemT = TypeVar("ItemT")
ModelT = TypeVar("ModelT", bound=BaseModel)


# How many faults of one request are told: more help nobody, and a million are not to be answered at length.
MOST_FAULTS = 20


class SeveralLines:
    """Marks a field whose text may have several lines; every other is of one."""


class Foreign:
    """Marks a field with a document of others, of which nothing is kept as it is written there."""


def _described(schema: dict[str, Any], model: type[BaseModel]) -> None:
    """Say in the description of a model what its text may be."""
    by_name = {field.alias or name: field for name, field in model.model_fields.items()}
    for name, described in schema.get("properties", {}).items():
        marks = by_name[name].metadata
        pattern = LINES_PATTERN if any(isinstance(mark, SeveralLines) for mark in marks) else LINE_PATTERN
        for text in _texts(described):
            text.setdefault("pattern", pattern)
            text.setdefault("maxLength", model.model_config.get("str_max_length", 2000))


def _texts(schema: dict[str, Any]) -> Iterator[dict[str, Any]]:
    """Yield what describes text, of any content, within a field."""
    hidden = schema.get("format", "password") == "password"
    if schema.get("type") == "string" and hidden and not schema.keys() & {"enum", "const"}:
        yield schema
    if isinstance(schema.get("additionalProperties"), dict):
        schema["propertyNames"] = {"type": "string", **schema.get("propertyNames", {})}
    parts = [*schema.get("anyOf", ()), schema.get("items"), schema.get("additionalProperties")]
    for part in (*parts, schema.get("propertyNames")):
        if isinstance(part, dict):
            yield from _texts(part)


class Sent(BaseModel):
    """A request body. Unknown fields are refused: a misspelt one must not be ignored. So is text that is not seen.

    What reads one is built when it is first read, as with answers.
    """

    model_config = ConfigDict(extra="forbid", str_max_length=2000, json_schema_extra=_described, defer_build=True)

    @field_validator("*", mode="after")
    @classmethod
    def _seen(cls, value: Any, info: ValidationInfo) -> Any:
        """Refuse text with characters that are not seen (`core.text`)."""
        held = value.get_secret_value() if isinstance(value, SecretStr) else value
        if isinstance(held, (str, list, tuple, dict)):
            marks = cls.model_fields[info.field_name or ""].metadata
            if any(isinstance(mark, Foreign) for mark in marks):
                return value
            several = any(isinstance(mark, SeveralLines) for mark in marks)
            judge, allowed = (lines_fault, SOME_LINES) if several else (line_fault, ONE_LINE)
            fault = next(filter(None, map(judge, strings_in(held))), "")
            if fault:
                raise ValueError(f"{allowed}; {fault}")
        return value


class Answered(BaseModel):
    """An answer. Unknown fields are passed over: an older client library keeps working.

    What reads one is built when it is first read: the command line reads few of them, and starts sooner.
    """

    model_config = ConfigDict(from_attributes=True, extra="ignore", defer_build=True)


class Versioned(Answered):
    """An answer about what can be edited. `version`: of the fields that are (`edited`), for If-Match and as ETag."""

    edited: ClassVar[frozenset[str]]
    version: str = ""

    @model_validator(mode="after")
    def _named(self) -> Self:
        if not self.version:
            self.version = version_of(self.model_dump(mode="json", include=set(self.edited)))
        return self


def _written(value: Any) -> Any:
    """Refuse seconds since a moment, and bare digits, where a date with time and zone is meant (RFC 3339)."""
    if isinstance(value, datetime) or (isinstance(value, str) and _RFC3339.match(value)):
        return value
    raise ValueError("a moment with its zone, as 2031-05-01T06:00:00Z")


def _utc(value: datetime) -> datetime:
    return value.astimezone(UTC)


_RFC3339 = re.compile(r"\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d")
Moment = Annotated[AwareDatetime, BeforeValidator(_written), AfterValidator(_utc)]


def _whole(value: Any) -> Any:
    """Take 5.0 for 5 (JSON Schema 2020-12, Validation section 6.1.1), and no text or truth value for a number."""
    return int(value) if isinstance(value, float) and value.is_integer() else value


# Behind the bounds of a whole number.
WHOLE = BeforeValidator(_whole)
Whole = Annotated[int, Field(strict=True), WHOLE]
# A set of names, in an order that does not change from answer to answer.
Names = Annotated[list[str], BeforeValidator(sorted)]


# A public key that credentials are sealed to: a JWK (RFC 7517) or PEM. Empty: none.
RecipientKeyText = Annotated[str, Field(max_length=LONGEST_KEY), SeveralLines()]


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
            for fault in error.errors()[:MOST_FAULTS]
        )
        raise BadInput(message, violations=violations, next_step=next_step) from error
