"""Reach on the wire: authorization details of an access token (RFC 9396 sections 2 and 9).

A scope value that no entry names counts everywhere; one that several entries name counts where any of them does.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

from jamb.core.reach.reach import EVERYWHERE, Reach, ReachKind

# RFC 9396 section 2: the type is a collision-resistant name.
TYPE = "urn:jamb:reach"


def details(identifier: str, held: Iterable[tuple[frozenset[str], Reach]]) -> list[dict[str, Any]]:
    """Return the entries for what is held: sets of scope values (a grant with all it implies), each with its reach.

    A scope value that is also held everywhere gets no entry.
    """
    rows = tuple(held)
    free = frozenset().union(*(names for names, reach in rows if reach == EVERYWHERE))
    by_reach: dict[Reach, frozenset[str]] = {}
    for names, reach in rows:
        if reach != EVERYWHERE and names - free:
            by_reach[reach] = by_reach.get(reach, frozenset()) | (names - free)
    return [
        {"type": TYPE, "locations": [identifier], "privileges": sorted(names), **document(reach)}
        for reach, names in sorted(by_reach.items(), key=lambda pair: pair[0].words)
    ]


def document(reach: Reach) -> dict[str, list[str]]:
    """Return the reach as members of an entry; everywhere has none."""
    if reach.kind is ReachKind.EVERYWHERE:
        return {}
    return {reach.kind.value.replace("-", "_"): sorted(reach.collections)}


def reach_of(members: Mapping[str, Any] | None) -> Reach:
    """Return what `document` wrote. Raises `ValueError` for what it never writes."""
    if not members:
        return EVERYWHERE
    (name,) = members.keys() & {"only", "all_but"}
    return Reach(ReachKind(name.replace("_", "-")), frozenset(members[name]))


def token_reach(entries: Iterable[Mapping[str, Any]]) -> dict[str, tuple[Reach, ...]]:
    """Return the bounds of a token's entries, by scope value."""
    found: dict[str, tuple[Reach, ...]] = {}
    for entry in entries:
        if entry.get("type") == TYPE:
            reach = reach_of({name: entry[name] for name in ("only", "all_but") if name in entry})
            for name in entry.get("privileges", ()):
                found[name] = (*found.get(name, ()), reach)
    return found
