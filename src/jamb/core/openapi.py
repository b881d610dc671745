"""Operations of a resource from its OpenAPI 3.1 document (OpenAPI Specification 3.1.1, sections 4.8.9 and 4.8.10)."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from jamb.core.errors import BadInput, Violation, shorten
from jamb.core.permissions import DataClass, Effect, Operation
from jamb.core.text import line_fault, visible

# What a method usually does (RFC 9110 section 9.2.1); whoever publishes corrects it where it is otherwise.
EFFECT_OF_METHOD = {
    "get": Effect.READ,
    "head": Effect.READ,
    "options": Effect.READ,
    "trace": Effect.READ,
    "query": Effect.READ,
    "post": Effect.WRITE,
    "put": Effect.WRITE,
    "patch": Effect.WRITE,
    "delete": Effect.CONTROL,
}
TITLE_LONGEST = 120
PATH_LONGEST = 300


def operations_of(document: Any, data_class: DataClass) -> tuple[Operation, ...]:
    """Return the document's operations: by operationId, else by method and path; effects guessed from the method.

    Raises:
        BadInput: it is not an OpenAPI 3.1 document, or two of its operations would have the same name.
    """
    if not isinstance(document, Mapping) or not str(document.get("openapi", "")).startswith("3.1"):
        said = document.get("openapi", "nothing") if isinstance(document, Mapping) else type(document).__name__
        raise BadInput.field("openapi", said, "an OpenAPI document of version 3.1", "Convert older ones first.")
    paths = document.get("paths", {})
    if not isinstance(paths, Mapping) or not paths:
        raise BadInput.field("paths", "nothing", "at least one path with an operation")
    found: dict[str, Operation] = {}
    violations = []
    for path, method, item in _items(paths):
        name = _name(item, method, path)
        fault = "a name: set its operationId" if not name else line_fault(path)
        if fault or len(path) > PATH_LONGEST:
            allowed = f"at most {PATH_LONGEST} seen characters, and something to be named by; {fault}".removesuffix(
                "; "
            )
            violations.append(Violation(f"paths.{shorten(path)}.{method}", shorten(path), allowed))
            continue
        if name in found:
            where = f"paths.{path}.{method}"
            violations.append(Violation(where, name, f"not the name of {found[name].path}", "Set its operationId."))
        title = visible(" ".join(str(item.get("summary") or item.get("description") or name).split())[:TITLE_LONGEST])
        found[name] = Operation(name, title, method.upper(), path, EFFECT_OF_METHOD[method], data_class)
    if violations:
        raise BadInput("Operations of the document cannot be taken as they are.", violations=tuple(violations[:20]))
    if not found:
        raise BadInput.field("paths", f"{len(paths)} paths", "at least one path with an operation")
    return tuple(found.values())


def _items(paths: Mapping[str, Any]) -> Iterator[tuple[str, str, Mapping[str, Any]]]:
    for path, methods in paths.items():
        if not isinstance(methods, Mapping):
            raise BadInput.field(f"paths.{shorten(path)}", type(methods).__name__, "an object of methods")
        for method, item in methods.items():
            if method in EFFECT_OF_METHOD and isinstance(item, Mapping):
                yield str(path), method, item


def _name(item: Mapping[str, Any], method: str, path: str) -> str:
    """Turn "listBerths", "list_berths" or a path into "list-berths"."""
    raw = str(item.get("operationId") or f"{method} {path}")
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "-", raw)
    return re.sub(r"[^a-z0-9.]+", "-", spaced.lower()).strip("-.")[:80].strip("-.")
