"""Versions of what can be edited: ETag and If-Match (RFC 9110 sections 8.8.3, 13.1.1 and 13.1.2)."""

from __future__ import annotations

import re
from typing import Annotated, Literal, TypeVar

from fastapi import Header, Response

from jamb.core.errors import BadInput, shorten
from jamb.wire.base.shapes import Versioned

HEADER = "If-Match"
_LONGEST = 1000
# A part of the list, and what follows it: within its quotes a tag may have commas (section 8.8.3).
_PART = re.compile(r'[ \t]*(?:\*|(?P<weak>W/)?"(?P<tag>[!#-~]{1,200})")[ \t]*(?:,|\Z)')
VersionedT = TypeVar("VersionedT", bound=Versioned)
IfMatch = Annotated[
    str | None,
    Header(
        alias=HEADER,
        max_length=_LONGEST,
        json_schema_extra={"pattern": r'^(\*|(W/)?"[!#-~]{1,200}")(, (\*|(W/)?"[!#-~]{1,200}"))*$'},
        description="The version that you saw, in quotes: if it is another now, nothing is changed (answer 412)",
    ),
]
IfNoneMatch = Annotated[
    Literal["*"] | None,
    Header(alias="If-None-Match", description="To make something new: if it is there already, answer 412"),
]


def versions_in(header: str) -> tuple[str, ...]:
    """Return the versions that a header names; "*" is any. Weak ones never match (RFC 9110 section 8.8.3.2).

    Raises:
        BadInput: it is no list of entity tags.
    """
    found, at, part = [], 0, None
    while at < len(header) or part is None:
        part = _PART.match(header, at)
        if part is None:
            raise BadInput.field(HEADER, shorten(header), 'a version in quotes, as "Zk3p0T9wYv5mQ1xA", or *')
        if not part["weak"]:
            found.append(part["tag"] or "*")
        at = part.end()
    return tuple(found)


def tagged(response: Response, found: VersionedT) -> VersionedT:
    """Return an answer as it is, with its version as the answer's ETag."""
    response.headers["ETag"] = f'"{found.version}"'
    return found
