"""Where a grant or a role counts: collections of a resource's objects, and reach over them."""

from jamb.core.reach.collection_changes import kept_within
from jamb.core.reach.collections import NO_COLLECTIONS, Collection, CollectionTree
from jamb.core.reach.reach import EVERYWHERE, Coverage, Reach, ReachKind, coverage, overlap

__all__ = [
    "EVERYWHERE",
    "NO_COLLECTIONS",
    "Collection",
    "CollectionTree",
    "Coverage",
    "Reach",
    "ReachKind",
    "coverage",
    "kept_within",
    "overlap",
]
