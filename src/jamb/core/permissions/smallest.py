"""The smallest permissions for a need: least weight of operations opened beyond it, then fewest permissions.

A weighted set cover whose cost is that of the union of what is opened beyond, so it is not additive. Solved exactly:

1. leave out what opens nothing needed, and what another dominates (which opens no less of the need, and nothing more
   beyond it)
2. depth first, on the needed operation that fewest permissions open, cheapest permission first
3. cut where the cost so far plus the dearest unavoidable step cannot beat the best found

Past `most_steps` the best found so far is returned with the bound below which no answer can lie.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from jamb.core.permissions.catalogue import AccessKind, Catalogue
from jamb.core.permissions.weight import weigh_operation

MOST_STEPS = 20_000


@dataclass(frozen=True, slots=True)
class Alternative:
    """One permission seen from a need: which of it is opened, what beyond it, and how much that weighs."""

    permission: str
    covers: frozenset[str]
    beyond: frozenset[str]
    beyond_weight: int


@dataclass(frozen=True, slots=True)
class Proposal:
    """The set of permissions to ask for.

    Attributes:
        permissions: sorted names; empty when the need is empty, open already, or cannot be met at all.
        beyond: operations that these open and nobody needs.
        beyond_weight: their weight; no set that meets the need weighs less than `bound`.
        exact: whether the set is proven smallest (then `bound` equals `beyond_weight`).
        unreachable: needed operations that no permission of the kind opens.
        alternatives: every permission that opens part of the need, the lightest beyond it first.
    """

    permissions: tuple[str, ...]
    beyond: frozenset[str]
    beyond_weight: int
    bound: int
    exact: bool
    unreachable: frozenset[str]
    alternatives: tuple[Alternative, ...]


def smallest(
    catalogue: Catalogue,
    needed: Iterable[str],
    kind: AccessKind,
    held: Iterable[str] = (),
    most_steps: int = MOST_STEPS,
    within: frozenset[str] | None = None,
) -> Proposal:
    """Return the smallest permissions of one kind that open `needed` beside those already held.

    What held permissions open costs nothing and need not be opened again. Unknown operations are unreachable.

    Args:
        within: permissions that open anything else are not looked at.
    """
    wanted = frozenset(needed)
    opened = catalogue.opened_by_all(held)
    open_need = wanted - opened
    alternatives = tuple(
        one
        for one in _alternatives(catalogue, open_need, wanted | opened, kind)
        if within is None or catalogue.opened_by(one.permission) <= within
    )
    reachable = frozenset().union(*(one.covers for one in alternatives))
    search = _Search(catalogue, alternatives, sorted(open_need & reachable), most_steps)
    chosen = search.run()
    beyond = frozenset().union(*(one.beyond for one in alternatives if one.permission in chosen))
    weight = sum(weigh_operation(catalogue.operations[name]) for name in beyond)
    return Proposal(
        permissions=tuple(sorted(chosen)),
        beyond=beyond,
        beyond_weight=weight,
        bound=weight if search.finished else min(search.root_bound, weight),
        exact=search.finished,
        unreachable=open_need - reachable,
        alternatives=alternatives,
    )


def _alternatives(
    catalogue: Catalogue, need: frozenset[str], free: frozenset[str], kind: AccessKind
) -> tuple[Alternative, ...]:
    found = []
    for name, permission in catalogue.permissions.items():
        opens = catalogue.opened_by(name)
        if kind in permission.kinds and opens & need:
            beyond = opens - free
            weight = sum(weigh_operation(catalogue.operations[operation]) for operation in beyond)
            found.append(Alternative(name, opens & need, beyond, weight))
    return tuple(sorted(found, key=lambda one: (one.beyond_weight, -len(one.covers), one.permission)))


@dataclass(frozen=True, slots=True)
class _Candidate:
    """An alternative as bit sets over the needed operations and over those beyond."""

    name: str
    covers: int
    beyond: int


@dataclass
class _Search:
    catalogue: Catalogue
    alternatives: tuple[Alternative, ...]
    need: list[str]
    most_steps: int
    root_bound: int = 0
    _weights: list[int] = field(default_factory=list)
    _openers: list[list[_Candidate]] = field(default_factory=list)
    _best: tuple[int, int, tuple[str, ...]] | None = None
    _seen: dict[tuple[int, int], int] = field(default_factory=dict)
    _steps: int = 0

    @property
    def finished(self) -> bool:
        return self._steps <= self.most_steps

    def run(self) -> frozenset[str]:
        if not self.need:
            return frozenset()
        candidates = _undominated(self._candidates())
        self._openers = [[one for one in candidates if one.covers >> place & 1] for place in range(len(self.need))]
        self._best = self._greedy(candidates)
        self.root_bound = self._bound(0, 0)
        self._visit(0, 0, ())
        return frozenset(self._best[2])

    def _candidates(self) -> list[_Candidate]:
        outside = sorted(frozenset().union(*(one.beyond for one in self.alternatives)))
        self._weights = [weigh_operation(self.catalogue.operations[name]) for name in outside]
        places = {name: place for place, name in enumerate(outside)}
        needed = {name: place for place, name in enumerate(self.need)}
        return [
            _Candidate(
                one.permission,
                sum(1 << needed[name] for name in one.covers),
                sum(1 << places[name] for name in one.beyond),
            )
            for one in self.alternatives
        ]

    def _weigh(self, beyond: int) -> int:
        total = 0
        while beyond:
            lowest = beyond & -beyond
            total += self._weights[lowest.bit_length() - 1]
            beyond ^= lowest
        return total

    def _greedy(self, candidates: list[_Candidate]) -> tuple[int, int, tuple[str, ...]]:
        """Take, until all is covered, the candidate that adds least weight for each operation it newly covers."""
        whole, covered, beyond = (1 << len(self.need)) - 1, 0, 0
        chosen: list[_Candidate] = []
        while covered != whole:
            best = min(
                (one for one in candidates if one.covers & ~covered),
                key=lambda one: (
                    self._weigh(one.beyond & ~beyond) / (one.covers & ~covered).bit_count(),
                    -(one.covers & ~covered).bit_count(),
                    one.name,
                ),
            )
            chosen.append(best)
            covered |= best.covers
            beyond |= best.beyond
        return self._weigh(beyond), len(chosen), tuple(sorted(one.name for one in chosen))

    def _bound(self, covered: int, beyond: int) -> int:
        """Return the dearest cheapest step among the operations still to cover: no completion can add less."""
        dearest = 0
        for place, openers in enumerate(self._openers):
            if not covered >> place & 1:
                dearest = max(dearest, min(self._weigh(one.beyond & ~beyond) for one in openers))
        return dearest

    def _visit(self, covered: int, beyond: int, chosen: tuple[str, ...]) -> None:
        self._steps += 1
        if not self.finished:
            return
        assert self._best is not None
        weight = self._weigh(beyond)
        if covered == (1 << len(self.need)) - 1:
            self._best = min(self._best, (weight, len(chosen), tuple(sorted(chosen))))
            return
        if (weight + self._bound(covered, beyond), len(chosen) + 1) > self._best[:2]:
            return
        if self._seen.get((covered, beyond), len(chosen) + 1) <= len(chosen):
            return
        self._seen[covered, beyond] = len(chosen)
        place = min(
            (place for place in range(len(self.need)) if not covered >> place & 1),
            key=lambda place: len(self._openers[place]),
        )
        steps = sorted(self._openers[place], key=lambda one: (self._weigh(one.beyond & ~beyond), one.name))
        for one in steps:
            self._visit(covered | one.covers, beyond | one.beyond, (*chosen, one.name))


def _undominated(candidates: list[_Candidate]) -> list[_Candidate]:
    """Leave out each that another covers no less than, at nothing more beyond; of equals keep the first by name."""
    kept: list[_Candidate] = []
    for one in sorted(candidates, key=lambda one: (-one.covers.bit_count(), one.beyond.bit_count(), one.name)):
        if not any(one.covers & ~other.covers == 0 and other.beyond & ~one.beyond == 0 for other in kept):
            kept.append(one)
    return kept
