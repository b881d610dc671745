"""Charters as files: TOML 1.0, for people to read and to keep under version control."""

from __future__ import annotations

import tomllib

import tomli_w

from jamb.core.errors import BadInput, shorten
from jamb.wire.base.shapes import checked
from jamb.wire.consent.charters import Charter

_HEAD = """\
# {name}, as it is in {directory} on {day}{rightsized}.
# `jamb charter compare FILE` says what differs in a directory; `jamb charter adopt FILE` makes it so.
"""


def charter_file(charter: Charter, directory: str, day: str, rightsized: list[str]) -> str:
    """Return a charter as a file: TOML 1.0, what is left at its default left out."""
    members = charter.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    members = {"charter": charter.charter, **{name: value for name, value in members.items() if value != []}}
    members["asks"] = [{name: value for name, value in ask.items() if value != []} for ask in members.pop("asks", [])]
    if not members["asks"]:
        del members["asks"]
    said = f", rightsized to what it does at {', '.join(rightsized)}" if rightsized else ""
    return _HEAD.format(name=charter.name, directory=directory, day=day, rightsized=said) + tomli_w.dumps(members)


def read_charter(text: str) -> Charter:
    """Return the charter of a file. Raises `BadInput` naming the line or each member that is not acceptable."""
    try:
        body = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise BadInput.field(
            "file", shorten(str(error)), "a charter: TOML, as `jamb charter write` makes it"
        ) from error
    again = "`jamb charter write` makes one from a client that is there."
    return checked(Charter, body, "The file is not a charter.", again)
