"""Charters as files: TOML 1.0, for people to read and to keep under version control."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping
from typing import Any

import tomli_w
from pydantic import ValidationError

from jamb.core.errors import BadInput, Violation, shorten
from jamb.wire.charters import Charter

_HEAD = """\
# {name}, as it is in {directory} on {day}{fitted}.
# `jamb charter compare FILE` says what differs in a directory; `jamb charter adopt FILE` makes it so.
"""


def charter_file(charter: Charter, directory: str, day: str, fitted: list[str]) -> str:
    """Return a charter as a file: TOML 1.0, what is left at its default left out."""
    members = charter.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    members = {"charter": charter.charter, **{name: value for name, value in members.items() if value != []}}
    members["asks"] = [{name: value for name, value in ask.items() if value != []} for ask in members.pop("asks", [])]
    if not members["asks"]:
        del members["asks"]
    said = f", fitted to what it does at {', '.join(fitted)}" if fitted else ""
    return _HEAD.format(name=charter.name, directory=directory, day=day, fitted=said) + tomli_w.dumps(members)


def read_charter(text: str) -> Charter:
    """Return the charter of a file. Raises `BadInput` naming the line or each member that is not acceptable."""
    try:
        return Charter.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise BadInput.field(
            "file", shorten(str(error)), "a charter: TOML, as `jamb charter write` makes it"
        ) from error
    except ValidationError as error:
        raise BadInput(
            "The file is not a charter.",
            violations=tuple(
                Violation(".".join(map(str, fault["loc"])) or "charter", shorten(str(fault["input"])), _allowed(fault))
                for fault in error.errors()[:20]
            ),
            next_step="`jamb charter write` makes one from a client that is there.",
        ) from error


def _allowed(fault: Mapping[str, Any]) -> str:
    if fault["type"] == "extra_forbidden":
        return "no member of this name"
    message: str = fault["msg"]
    return message.removeprefix("Value error, ")
