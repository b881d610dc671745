"""Operations and permissions of a resource from its OpenAPI 3.1 document.

OpenAPI Specification 3.1.1: operations by sections 4.8.9 and 4.8.10; permissions are the scopes that the document's
security schemes name (4.8.27, 4.8.29) and its operations require (4.8.30).
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any

from jamb.core.errors import BadInput, Violation, shorten
from jamb.core.permissions import AccessKind, DataClass, Effect, Operation, Permission
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
        title = _said(str(item.get("summary") or item.get("description") or name))
        found[name] = Operation(name, title, method.upper(), path, EFFECT_OF_METHOD[method], data_class)
    if violations:
        raise BadInput("Operations of the document cannot be taken as they are.", violations=tuple(violations[:20]))
    if not found:
        raise BadInput.field("paths", f"{len(paths)} paths", "at least one path with an operation")
    return tuple(found.values())


def permissions_of(document: Mapping[str, Any], operations: tuple[Operation, ...]) -> tuple[Permission, ...]:
    """Return the permissions that the document's operations require as scopes; a proposal where it names none.

    A name is made fit for ours ("read:levels" becomes "read-levels"). A scope that an operation requires beside another
    opens nothing by itself, and so does not unlock it here. The proposal is one permission for each effect.
    """
    by_path = {(operation.method, operation.path): operation.name for operation in operations}
    titles = _scope_titles(document)
    unlocks: dict[str, set[str]] = {}
    for path, method, item in _items(document["paths"]):
        for scope in _scopes(item.get("security", document.get("security"))):
            if name := _tidied(scope):
                unlocks.setdefault(name, set()).add(by_path[method.upper(), path])
    if not unlocks:
        return _proposed(document, operations)
    kinds = frozenset(AccessKind)
    return tuple(
        Permission(scope, _said(titles.get(scope) or scope), kinds, frozenset(names))
        for scope, names in sorted(unlocks.items())
    )


def _scope_titles(document: Mapping[str, Any]) -> dict[str, str]:
    components = document.get("components")
    schemes = components.get("securitySchemes") if isinstance(components, Mapping) else None
    found: dict[str, str] = {}
    for scheme in schemes.values() if isinstance(schemes, Mapping) else ():
        flows = scheme.get("flows") if isinstance(scheme, Mapping) else None
        for flow in flows.values() if isinstance(flows, Mapping) else ():
            scopes = flow.get("scopes") if isinstance(flow, Mapping) else None
            if isinstance(scopes, Mapping):
                found |= {_tidied(str(name)): str(title) for name, title in scopes.items()}
    return found


def _scopes(requirements: Any) -> Iterator[str]:
    """Return the scopes of which one alone is enough."""
    for alternative in requirements if isinstance(requirements, list) else ():
        if not isinstance(alternative, Mapping):
            continue
        names = [str(name) for scopes in alternative.values() if isinstance(scopes, list) for name in scopes]
        if len(names) == 1:
            yield names[0]


def _proposed(document: Mapping[str, Any], operations: tuple[Operation, ...]) -> tuple[Permission, ...]:
    info = document.get("info")
    called = str(info.get("title", "")) if isinstance(info, Mapping) else ""
    prefix = _tidied(called) or "all"
    made = []
    for effect in Effect:
        names = frozenset(operation.name for operation in operations if operation.effect is effect)
        if names:
            title = _said(f"{effect.value.capitalize()} everything of {called or 'the resource'}")
            made.append(Permission(f"{prefix[:60].strip('-.')}.{effect.value}", title, frozenset(AccessKind), names))
    return tuple(made)


def _said(words: str) -> str:
    return visible(" ".join(words.split())[:TITLE_LONGEST])


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
    return _tidied(raw)


def _tidied(raw: str) -> str:
    """Return words as a name of ours: lower-case letters and digits, parted by one dot or hyphen; a letter first."""
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "-", raw)
    parted = re.sub(r"[^a-z0-9.]+", "-", spaced.lower())
    single = re.sub(r"[.-]*\.[.-]*", ".", parted)
    return re.sub(r"^[^a-z]+", "", single)[:80].strip("-.")
