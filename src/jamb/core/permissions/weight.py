"""How much an operation weighs: its effect times the class of its data. The one table of weights.

Documented for administrators in docs/architecture.md; every place that ranks risk reads it from here.
"""

from __future__ import annotations

from collections.abc import Iterable

from jamb.core.permissions.catalogue import Catalogue, DataClass, Effect, Operation

EFFECT_WEIGHT = {Effect.READ: 1, Effect.WRITE: 3, Effect.CONTROL: 9}
DATA_WEIGHT = {DataClass.OPEN: 1, DataClass.INTERNAL: 2, DataClass.PERSONAL: 4, DataClass.RESTRICTED: 8}


def weigh_operation(operation: Operation) -> int:
    return EFFECT_WEIGHT[operation.effect] * DATA_WEIGHT[operation.data_class]


def weigh(catalogue: Catalogue, operations: Iterable[str]) -> int:
    """Return the weight of a set of operation names of one catalogue; repeated names count once."""
    return sum(weigh_operation(catalogue.operations[name]) for name in frozenset(operations))
