"""Text from outside, judged where it enters: one gate for every face.

Text that is kept, shown or compared is valid Unicode without the character of value 0 and without surrogates, which no
database column and no UTF-8 holds. A value of one line has, besides, no control characters (RFC 20, ISO 6429) and none
that turn the direction of what stands around it (Unicode Standard Annex 9), so that a terminal, a log and a table show
what is there. What a field may hold beyond that is said where the field is.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterator, Sequence
from typing import Any

import orjson

# C0, DEL and C1; surrogates; directions; line and paragraph separators; a byte order mark; annotations; tags.
_HIDDEN = (
    "\\x00-\\x1f\\x7f-\\x9f\\u061c\\u200e\\u200f\\u2028-\\u202e\\u2066-\\u2069\\ufeff\\ufff9-\\ufffb"
    "\\ud800-\\udfff\\U000e0000-\\U000e007f"
)
_IN_LINE = re.compile(f"[{_HIDDEN}]")
_IN_LINES = re.compile(f"(?![\\t\\n\\r])[{_HIDDEN}]")
_NO_TEXT = re.compile("[\\x00\\ud800-\\udfff]")
# The same as regular expressions that a description of the API can carry (ECMA-262, without its flags).
NOT_SEEN = r"\u0000-\u001f\u007f-\u009f\u061c\u200e\u200f\u2028-\u202e\u2066-\u2069\ufeff\ufff9-\ufffb"
LINE_PATTERN = f"^[^{NOT_SEEN}]*$"
# One line in which something is said.
SAID_PATTERN = f"^[^{NOT_SEEN}]*[^{NOT_SEEN}\\s][^{NOT_SEEN}]*$"
# What a name may not have beside: drawn empty, or of no agreed form, so that two names could look the same.
_UNSEEN = (
    r"\u00ad\u034f\u115f\u1160\u17b4\u17b5\u180b-\u180f\u200b-\u200f\u2060-\u206f\u3164\ufe00-\ufe0f\uffa0\ue000-\uf8ff"
)
_IN_NAME = re.compile(f"[{NOT_SEEN}{_UNSEEN}]")
NAME_PATTERN = f"^[^{NOT_SEEN}{_UNSEEN}]*[^{NOT_SEEN}{_UNSEEN}\\s][^{NOT_SEEN}{_UNSEEN}]*$"
NAME = "characters that are seen: none that control, turn the direction of text, or are drawn empty"
LINES_PATTERN = f"^([^{NOT_SEEN}]|[\\t\\n\\r])*$"
ONE_LINE = "characters that are seen: no control characters, no line ends, none that turn the direction of text"
SOME_LINES = "characters that are seen, tabs and line ends: no other control characters, none that turn directions"


class UnfitText(ValueError):
    """Text that cannot be kept, or JSON that cannot be read; the message says what is wrong and repeats nothing."""


def line_fault(text: str) -> str:
    """Return what is wrong with text of one line, or nothing."""
    return _said(_IN_LINE.search(text))


def lines_fault(text: str) -> str:
    """Return what is wrong with text of several lines, or nothing."""
    return _said(_IN_LINES.search(text))


def name_fault(text: str) -> str:
    """Return what is wrong with a name, or nothing."""
    return line_fault(text) or _said(_IN_NAME.search(text))


def visible(text: str) -> str:
    """Return text of one line with what is not seen made visible, as \\x1b."""
    return _IN_LINE.sub(_shown, text)


def visible_lines(text: str) -> str:
    """Return text of several lines with what is not seen made visible; tabs and line feeds stay."""
    return re.sub(f"(?![\\t\\n])[{_HIDDEN}]", _shown, text)


def in_words(things: Sequence[str], between: str) -> str:
    """Return things as a sentence names them: a, b or c."""
    *before, last = things or [""]
    return f"{', '.join(before)} {between} {last}" if before else last


def escaped(json_text: str) -> str:
    """Return a JSON text in which what is not seen stands as its escape (RFC 8259 section 7); its value is the same."""
    return _IN_LINES.sub(lambda found: json.dumps(found[0])[1:-1], json_text)


def read_json(sent: bytes | str) -> Any:
    """Return a JSON text's value (RFC 8259), in which every string is text that can be kept.

    Raises:
        UnfitText: it is no JSON, not UTF-8, or one of its strings or names holds a surrogate or a 0.
    """
    try:
        value = orjson.loads(sent)
    except orjson.JSONDecodeError as error:
        raise UnfitText(f"it is no JSON of UTF-8 text: {str(error).partition(':')[0]}") from error
    # The reader refuses surrogates. A 0 can only come written as an escape.
    escaped = b"\\u0000" in sent if isinstance(sent, bytes) else "\\u0000" in sent
    if escaped and any(_NO_TEXT.search(one) for one in strings_in(value)):
        raise UnfitText("it holds the character of value 0")
    return value


def strings_in(value: Any) -> Iterator[str]:
    """Yield every string of a JSON value, and every name of a member. Goes no deeper than the reader did."""
    waiting = [value]
    while waiting:
        one = waiting.pop()
        if isinstance(one, str):
            yield one
        elif isinstance(one, dict):
            yield from one
            waiting.extend(one.values())
        elif isinstance(one, (list, tuple)):
            waiting.extend(one)


def _said(found: re.Match[str] | None) -> str:
    return f"it holds {_shown(found)}" if found is not None else ""


def _shown(found: re.Match[str]) -> str:
    value = ord(found[0])
    return f"\\x{value:02x}" if value < 0x100 else f"\\u{value:04x}"
