"""What a resource can do, what unlocks it, and how much that weighs."""

from jamb.core.permissions.catalogue import (
    AccessKind,
    Catalogue,
    DataClass,
    Effect,
    Operation,
    Permission,
)
from jamb.core.permissions.weight import weigh, weigh_operation

__all__ = ["AccessKind", "Catalogue", "DataClass", "Effect", "Operation", "Permission", "weigh", "weigh_operation"]
