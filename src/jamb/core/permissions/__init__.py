"""What a resource can do, what unlocks it, and how much that weighs."""

from jamb.core.permissions.catalogue import (
    AccessKind,
    Catalogue,
    ConsentBy,
    DataClass,
    Effect,
    Operation,
    Permission,
)
from jamb.core.permissions.limits import kept_within
from jamb.core.permissions.smallest import Alternative, Proposal, smallest
from jamb.core.permissions.weight import weigh, weigh_operation

__all__ = [
    "AccessKind",
    "Alternative",
    "Catalogue",
    "ConsentBy",
    "DataClass",
    "Effect",
    "Operation",
    "Permission",
    "Proposal",
    "kept_within",
    "smallest",
    "weigh",
    "weigh_operation",
]
