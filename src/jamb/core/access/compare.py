"""What a change of permissions makes newly possible, and what it takes away."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from jamb.core.permissions import Catalogue, weigh


@dataclass(frozen=True, slots=True)
class Comparison:
    """Before and after, as operation names of one catalogue, with the weight that the change adds.

    Attributes:
        newly: operations possible only afterwards.
        unchanged: operations possible before and after.
        no_longer: operations possible only before.
        added_weight: weight of `newly`.
        implied: permissions that come along because another implies them.
        redundant: permissions of `after` that another of `after` already implies.
    """

    newly: frozenset[str]
    unchanged: frozenset[str]
    no_longer: frozenset[str]
    added_weight: int
    implied: frozenset[str]
    redundant: frozenset[str]


def compare(catalogue: Catalogue, before: Iterable[str], after: Iterable[str]) -> Comparison:
    """Compare two sets of granted permission names of one catalogue."""
    earlier, later = frozenset(before), frozenset(after)
    opened_before, opened_after = catalogue.opened_by_all(earlier), catalogue.opened_by_all(later)
    newly = opened_after - opened_before
    implied = frozenset().union(*(catalogue.closure(name) for name in later)) - later
    redundant = frozenset(
        name for name in later if any(name in catalogue.closure(other) for other in later if other != name)
    )
    return Comparison(
        newly=newly,
        unchanged=opened_before & opened_after,
        no_longer=opened_before - opened_after,
        added_weight=weigh(catalogue, newly),
        implied=implied,
        redundant=redundant,
    )
