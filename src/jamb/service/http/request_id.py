"""An id for each request: in its answer, in a problem document, and in every line that is logged about it."""

from __future__ import annotations

from collections.abc import MutableMapping
from contextvars import ContextVar
from typing import Any
from uuid import uuid4

HEADER = "X-Request-Id"
_current: ContextVar[str] = ContextVar("request_id", default="")


def begin() -> str:
    """Give the request of this task an id of its own; what a caller sends as one is not taken over."""
    made = str(uuid4())
    _current.set(made)
    return made


def current() -> str:
    return _current.get()


def logged(_logger: Any, _method: str, line: MutableMapping[str, Any]) -> MutableMapping[str, Any]:
    """Add the id to a line of the log, where there is one."""
    if (request := _current.get()) and "request" not in line:
        line["request"] = request
    return line
