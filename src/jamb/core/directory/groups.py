"""Groups of people, nested: who belongs to what in the end, and no group within itself (RFC 7643 section 4.2)."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from jamb.core.errors import Unsuited, Violation


def holders(inner: Mapping[str, Iterable[str]], group: str) -> frozenset[str]:
    """Return the group and every group within it, however deep. `inner` maps a group to the groups in it."""
    found, waiting = set(), [group]
    while waiting:
        one = waiting.pop()
        if one not in found:
            found.add(one)
            waiting.extend(inner.get(one, ()))
    return frozenset(found)


def around(inner: Mapping[str, Iterable[str]], groups: Iterable[str]) -> frozenset[str]:
    """Return these groups and every group that holds one of them, however far out."""
    outer: dict[str, list[str]] = {}
    for holder, members in inner.items():
        for member in members:
            outer.setdefault(member, []).append(holder)
    return frozenset().union(*(holders(outer, one) for one in groups))


def refuse_cycle(inner: Mapping[str, Iterable[str]], group: str, wanted: Iterable[str]) -> None:
    """Raise `BadInput` if putting the wanted groups into `group` would put it within itself."""
    for one in wanted:
        if group in holders(inner, one):
            raise Unsuited(
                f"{one} holds {group} already: a group cannot lie within itself.",
                violations=(
                    Violation("groups", one, f"a group that does not hold {group}", "Take it out there first."),
                ),
            )
