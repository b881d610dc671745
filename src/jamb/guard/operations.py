"""Which operation of a resource a request is: by method and path, as the resource's catalogue has them.

Strictly, because what stands behind a proxy may read an address otherwise than the proxy: a path that can be read in
two ways (dot segments, encoded slashes, empty segments) is no operation's.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any
from urllib.parse import unquote

from jamb.guard.refusals import Refused

_Segments = tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Known:
    """An operation: one of `any_of` opens it; its path parameter `object_in` names its object, if it concerns one."""

    name: str
    method: str
    path: _Segments
    any_of: tuple[str, ...]
    object_in: str


@dataclass(frozen=True, slots=True)
class Found:
    """The operation of a request, and the name of its object."""

    operation: Known
    object: str | None


@dataclass(frozen=True, slots=True)
class Operations:
    """The operations of a resource, at one revision of its catalogue, by method and number of segments."""

    revision: int
    by_shape: Mapping[tuple[str, int], tuple[Known, ...]]

    @property
    def permissions(self) -> set[str]:
        return {name for rows in self.by_shape.values() for operation in rows for name in operation.any_of}

    def find(self, method: str, target: str) -> Found:
        """Return the operation of a request line's method and target (RFC 9112 section 3).

        Raises:
            Refused: it is none of the resource's, or can be read in more than one way.
        """
        path = target.partition("?")[0]
        segments = _segments(path)
        # RFC 9110 section 9.3.2: HEAD is GET without what it answers.
        for wanted in (method, "GET") if method == "HEAD" else (method,):
            for operation in self.by_shape.get((wanted, len(segments)), ()):
                values = _fitting(operation.path, segments)
                if values is not None:
                    return Found(operation, values.get(operation.object_in) if operation.object_in else None)
        raise Refused(403, "insufficient_scope", "no operation of this API is called so", reason="unknown-operation")


def operations_of(body: Mapping[str, Any]) -> Operations:
    """Return the operations that an issuer's answer holds. Raises `KeyError` where it holds none."""
    shapes: dict[tuple[str, int], list[Known]] = {}
    for row in body["operations"]:
        path = tuple(row["path"].removeprefix("/").split("/"))
        known = Known(row["name"], row["method"].upper(), path, tuple(row["any_of"]), row["object_in"])
        if known.method:
            shapes.setdefault((known.method, len(path)), []).append(known)
    for rows in shapes.values():
        # What is written out goes before what any word fits.
        rows.sort(key=lambda operation: [part.startswith("{") for part in operation.path])
    return Operations(int(body["revision"]), {shape: tuple(rows) for shape, rows in shapes.items()})


def _segments(path: str) -> _Segments:
    if path == "/":
        return ("",)
    if not path.startswith("/"):
        raise _unclear()
    found = []
    for part in path[1:].split("/"):
        try:
            plain = unquote(part, errors="strict")
        except UnicodeDecodeError as error:
            raise _unclear() from error
        if plain in {"", ".", ".."} or not plain.isprintable() or set(plain) & set("/\\%;"):
            raise _unclear()
        found.append(plain)
    return tuple(found)


def _fitting(path: _Segments, segments: _Segments) -> dict[str, str] | None:
    values = {}
    for part, segment in zip(path, segments, strict=True):
        if part.startswith("{") and part.endswith("}"):
            values[part[1:-1]] = segment
        elif part != segment:
            return None
    return values


def _unclear() -> Refused:
    return Refused(403, "insufficient_scope", "the path can be read in more than one way", reason="unknown-operation")
