"""Cursors and Link headers (RFC 8288): every list is paged the same way."""

from __future__ import annotations

import base64
import binascii
import json
from datetime import datetime
from typing import Annotated, Any
from uuid import UUID

from fastapi import Query, Request, Response

from jamb.core.errors import NotFound, Violation, shorten
from jamb.core.text import read_json

DEFAULT_LIMIT = 50
MOST_LIMIT = 100
# The longest name, of signs of four bytes each, and an id fit.
CURSOR_LONGEST = 1000

Limit = Annotated[int, Query(ge=1, le=MOST_LIMIT, description="Items a page")]
Cursor = Annotated[str | None, Query(max_length=CURSOR_LONGEST, description="`next` of the page before")]


def pack(position: Any) -> str:
    return base64.urlsafe_b64encode(json.dumps(position, ensure_ascii=False).encode()).decode().rstrip("=")


def unpack(cursor: str) -> Any:
    try:
        return read_json(base64.urlsafe_b64decode(cursor + "=" * (-len(cursor) % 4)))
    except (binascii.Error, ValueError) as error:
        raise bad_cursor(cursor) from error


def unpack_number(cursor: str | None) -> int | None:
    if cursor is None:
        return None
    value = unpack(cursor)
    if not isinstance(value, int) or not 0 <= value < 2**62:
        raise bad_cursor(cursor)
    return value


def unpack_pair(cursor: str | None) -> tuple[str, str] | None:
    if cursor is None:
        return None
    value = unpack(cursor)
    if not (isinstance(value, list) and len(value) == 2 and all(isinstance(part, str) for part in value)):
        raise bad_cursor(cursor)
    return value[0], value[1]


def unpack_name(cursor: str | None) -> tuple[str, str] | None:
    """Return the end of a page of what is in order of a name and an id."""
    pair = unpack_pair(cursor)
    if pair is not None:
        try:
            UUID(pair[1])
        except ValueError as error:
            raise bad_cursor(str(cursor)) from error
    return pair


def unpack_latest(cursor: str | None) -> tuple[datetime, str] | None:
    """Return the end of a page of what comes the latest first: its moment, and its key."""
    pair = unpack_pair(cursor)
    if pair is None:
        return None
    return _moment(pair[0], str(cursor)), pair[1]


def unpack_position(cursor: str | None) -> tuple[datetime, UUID] | None:
    pair = unpack_name(cursor)
    return (_moment(pair[0], str(cursor)), UUID(pair[1])) if pair is not None else None


def _moment(text: str, cursor: str) -> datetime:
    try:
        moment = datetime.fromisoformat(text)
    except ValueError as error:
        raise bad_cursor(cursor) from error
    if moment.tzinfo is None:
        raise bad_cursor(cursor)
    return moment


def unpack_text(cursor: str | None) -> str | None:
    """Return the end of a page of what is in order of a name that is nobody else's."""
    value = unpack(cursor) if cursor is not None else None
    if value is not None and not isinstance(value, str):
        raise bad_cursor(str(cursor))
    return value


def onward(request: Request, response: Response, after: Any) -> str | None:
    """Return the cursor of the page after this one, and link to it; None where there is none.

    Args:
        after: where this one ends, as its list orders: a name, a number, or several of these with moments and ids;
            None: there is no more.
    """
    if after is None:
        return None
    cursor = pack(_plain(after))
    url = request.url.include_query_params(cursor=cursor)
    response.headers["Link"] = f'<{url.path}?{url.query}>; rel="next"'
    return cursor


def _plain(part: Any) -> Any:
    """Return a place in a list as JSON has it."""
    if isinstance(part, tuple | list):
        return [_plain(one) for one in part]
    return part.isoformat() if isinstance(part, datetime) else str(part) if isinstance(part, UUID) else part


def bad_cursor(cursor: str) -> NotFound:
    return NotFound(
        "This list has no such page.",
        violations=(Violation("cursor", shorten(cursor), "the `next` of a page of this list"),),
        next_step="Start again without a cursor.",
    )
