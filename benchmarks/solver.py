"""The smallest-permissions solver on random catalogues up to 200 permissions by 1,000 operations."""

from __future__ import annotations

import random
import time
from dataclasses import dataclass

from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission, smallest

SIZES = ((20, 60), (60, 250), (120, 600), (200, 1000))
CASES, LIMIT_SECONDS = 40, 0.050
APPLICATION = frozenset({AccessKind.APPLICATION})


@dataclass(frozen=True)
class Solved:
    """What a size showed: the share proven smallest within the limit, the median time, and the worst gap when not."""

    permissions: int
    operations: int
    share: float
    median_ms: float
    worst_gap: float


def measure() -> list[Solved]:
    return [_size(*size) for size in SIZES]


def random_catalogue(dice: random.Random, permissions: int, operations: int) -> Catalogue:
    """Return a catalogue shaped like real ones: areas, in each smaller permissions that bigger ones imply."""
    made = [
        Operation(f"op-{number}", "", "GET", f"/{number}", dice.choice(list(Effect)), dice.choice(list(DataClass)))
        for number in range(operations)
    ]
    area = max(1, operations // max(1, permissions // 5))
    names: list[Permission] = []
    for number in range(permissions):
        start = (number // 5) * area
        around = range(max(0, start - area // 2), min(operations, start + area + area // 2))
        unlocks = dice.sample(list(around), min(len(around), dice.randrange(2, 9)))
        earlier = [one.name for one in names[-4:] if dice.random() < 0.3]
        wanted = frozenset(f"op-{one}" for one in unlocks)
        names.append(Permission(f"p-{number}", "", APPLICATION, wanted, frozenset(earlier)))
    return Catalogue.of("x", "X", "https://x.example", made, names)


def _size(permissions: int, operations: int) -> Solved:
    dice = random.Random(permissions)
    times, exact, worst = [], 0, 0.0
    for _ in range(CASES):
        catalogue = random_catalogue(dice, permissions, operations)
        open_ones = sorted(catalogue.opened_by_all(catalogue.permissions))
        needed = dice.sample(open_ones, min(len(open_ones), dice.randrange(3, 16)))
        started = time.perf_counter()
        found = smallest(catalogue, needed, AccessKind.APPLICATION)
        seconds = time.perf_counter() - started
        times.append(seconds)
        if found.exact and seconds <= LIMIT_SECONDS:
            exact += 1
        elif not found.exact:
            worst = max(worst, (found.beyond_weight - found.bound) / max(found.bound, 1))
    return Solved(permissions, operations, exact / CASES, 1000 * sorted(times)[CASES // 2], worst)
