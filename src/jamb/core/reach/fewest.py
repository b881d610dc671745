"""The smallest reach that covers what was touched: least further objects, then fewest collections.

A weighted set cover. Objects that lie in the same candidates count as one; then:

1. leave out collections that hold nothing touched, and those that another dominates (it holds as much of what was
   touched and nothing more beyond it)
2. depth first, on the class of touched objects that fewest collections hold
3. cut where what is covered beyond the need cannot beat the best found

Past `most_steps` the best found so far is returned, and said not to be proven.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from jamb.core.reach.collections import CollectionTree
from jamb.core.reach.reach import Reach, ReachKind

MOST_STEPS = 5_000


@dataclass(frozen=True, slots=True)
class SmallestReach:
    """`beyond`: known objects that it covers and that were not touched. `exact`: proven smallest."""

    reach: Reach
    covered: int
    beyond: int
    exact: bool


def smallest_reach(
    tree: CollectionTree, touched: Iterable[str], most_steps: int = MOST_STEPS, within: frozenset[str] | None = None
) -> SmallestReach | None:
    """Return the smallest reach over these objects; None where none was touched, or one lies in no collection.

    Args:
        within: collections that hold any other object are not looked at.
    """
    wanted = frozenset(touched)
    if not wanted or not wanted <= tree.everything:
        return None
    members = _candidates(tree, wanted, tree.everything if within is None else within)
    if not wanted <= frozenset().union(*members.values()):
        return None
    search = _Search(members, wanted, most_steps)
    search.go(frozenset(), frozenset())
    paths = search.best or search.greedy()
    covered = frozenset().union(*(members[path] for path in paths))
    reach = Reach(ReachKind.ONLY, frozenset(paths))
    return SmallestReach(reach, len(covered), len(covered - wanted), search.steps < most_steps)


def _candidates(tree: CollectionTree, wanted: frozenset[str], within: frozenset[str]) -> dict[str, frozenset[str]]:
    holding = {
        path: members
        for path in tree.collections
        if not wanted.isdisjoint(members := tree.members(path)) and members <= within
    }
    kept: dict[str, frozenset[str]] = {}
    for path, members in sorted(holding.items(), key=lambda pair: (len(pair[1]), pair[0])):
        need, beyond = members & wanted, members - wanted
        if not any(need <= other & wanted and other - wanted <= beyond for other in kept.values()):
            kept = {
                key: other for key, other in kept.items() if not (other & wanted <= need and beyond <= other - wanted)
            }
            kept[path] = members
    return kept


class _Search:
    def __init__(self, members: dict[str, frozenset[str]], wanted: frozenset[str], most_steps: int) -> None:
        self.members, self.most_steps, self.steps = members, most_steps, 0
        # Objects in the same candidates are one class: its weight is how many they are.
        classes: dict[tuple[frozenset[str], bool], int] = {}
        places: dict[str, set[str]] = {}
        for path, objects in members.items():
            for name in objects:
                places.setdefault(name, set()).add(path)
        for name, paths in places.items():
            key = (frozenset(paths), name in wanted)
            classes[key] = classes.get(key, 0) + 1
        self.needed = sorted((paths for paths, need in classes if need), key=lambda one: (len(one), sorted(one)))
        self.surplus = [(paths, count) for (paths, need), count in classes.items() if not need]
        self.best: frozenset[str] = frozenset()
        self.best_cost: tuple[float, int] = (float("inf"), 0)

    def cost(self, chosen: frozenset[str]) -> tuple[float, int]:
        return sum(count for paths, count in self.surplus if paths & chosen), len(chosen)

    def go(self, chosen: frozenset[str], refused: frozenset[str]) -> None:
        self.steps += 1
        cost = self.cost(chosen)
        if self.steps > self.most_steps or cost >= self.best_cost:
            return
        left = next((paths for paths in self.needed if not paths & chosen), None)
        if left is None:
            self.best, self.best_cost = chosen, cost
            return
        tried: frozenset[str] = frozenset()
        for path in sorted(left - refused, key=lambda one: (self.cost(chosen | {one}), one)):
            self.go(chosen | {path}, refused | tried)
            tried |= {path}

    def greedy(self) -> frozenset[str]:
        chosen: frozenset[str] = frozenset()
        for paths in self.needed:
            if not paths & chosen:
                chosen |= {min(paths, key=lambda one: (self.cost(chosen | {one}), one))}
        return chosen
