"""What a client and a person may do together: the part of what was consented to that the person may do themself.

A delegated token carries permissions whose every operation both may do, each within the reach at which both may do it
(RFC 9068 section 2.2.3, RFC 9396). So a guard that sees the token alone lets nothing through that one of them may not.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from jamb.core.access.standing import Holding
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, CollectionTree, Reach
from jamb.core.reach.details import details
from jamb.core.reach.reach import coverage, overlap

# Permissions of a token, each with the reaches at which it counts.
Counts = Mapping[str, tuple[Reach, ...]]
# Of different reaches for one permission: what would need more is left out of the token.
MOST_REACHES = 32


def both_may(
    catalogue: Catalogue, tree: CollectionTree, client: Iterable[Holding], person: Iterable[Holding]
) -> dict[str, tuple[Reach, ...]]:
    """Return the permissions that a token for both may carry, each with the reaches at which it counts.

    Args:
        client: what the client holds for people, for everyone or for this person.
        person: what the person holds by roles.
    """
    ours, theirs = tuple(client), tuple(person)
    named = frozenset().union(*(catalogue.closure(one.permission) for one in (*ours, *theirs)))
    found: dict[str, tuple[Reach, ...]] = {}
    for name in sorted(named):
        if AccessKind.DELEGATED not in catalogue.permissions[name].kinds:
            continue
        reaches = _reaches(catalogue, tree, name, ours, theirs)
        if reaches:
            found[name] = reaches
    return found


def still_allowed(catalogue: Catalogue, counts: Counts, names: Iterable[str]) -> Counts:
    """Return what both may do now, of the permissions that were allowed then.

    By operations, so that a part of a permission counts as well.
    """
    opened = catalogue.opened_by_all([name for name in names if name in catalogue.permissions])
    return {name: reaches for name, reaches in counts.items() if catalogue.opened_by(name) <= opened}


def within(catalogue: Catalogue, tree: CollectionTree, counts: Counts, asked: Iterable[Holding]) -> Counts:
    """Return what both may do, where it was asked for (RFC 9396 section 7: never more than was allowed)."""
    held = [Holding(name, reach) for name, reaches in counts.items() for reach in reaches]
    return both_may(catalogue, tree, asked, held)


def bounds_of(identifier: str, counts: Mapping[str, tuple[Reach, ...]]) -> list[dict[str, Any]] | None:
    """Return where permissions count, as authorization details; None: everywhere (RFC 9396 section 9.1)."""
    bounded = [
        (frozenset({name}), reach) for name, reaches in counts.items() if EVERYWHERE not in reaches for reach in reaches
    ]
    return details(identifier, bounded) or None


def _reaches(
    catalogue: Catalogue, tree: CollectionTree, name: str, ours: Sequence[Holding], theirs: Sequence[Holding]
) -> tuple[Reach, ...]:
    shared: list[Reach] = [EVERYWHERE]
    for operation in sorted(catalogue.opened_by(name)):
        mine, yours = _where(catalogue, operation, ours), _where(catalogue, operation, theirs)
        if not mine or not yours:
            return ()
        if catalogue.concerns_object(operation):
            shared = _overlaps(tree, shared, _overlaps(tree, mine, yours))
        if not shared:
            return ()
    return tuple(shared)


def _where(catalogue: Catalogue, operation: str, held: Iterable[Holding]) -> list[Reach]:
    return list(dict.fromkeys(one.reach for one in held if operation in catalogue.opened_by(one.permission)))


def _overlaps(tree: CollectionTree, some: Iterable[Reach], others: Sequence[Reach]) -> list[Reach]:
    """Return what lies in one of these and in one of those; the widest alone, of as many as a token can carry."""
    found = [both for one in some for other in others if (both := overlap(one, other, tree)) is not None]
    kept: list[Reach] = []
    for reach in sorted(dict.fromkeys(found), key=lambda one: (-len(coverage(tree, [one]).objects), one.words)):
        if not any(_within(tree, reach, wider) for wider in kept) and len(kept) < MOST_REACHES:
            kept.append(reach)
    return kept


def _within(tree: CollectionTree, reach: Reach, wider: Reach) -> bool:
    return wider == EVERYWHERE or (
        reach != EVERYWHERE and reach.kind is wider.kind and coverage(tree, [reach]) <= coverage(tree, [wider])
    )
