"""What a client can inherit from its maker: what their own roles allow, never more, and narrower where they wish."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum

from jamb.core.access.standing import Holding, RoleHolding
from jamb.core.permissions import AccessKind, Catalogue, Effect
from jamb.core.reach import EVERYWHERE, CollectionTree, Reach, overlap


class InheritedLevel(StrEnum):
    NOTHING = "nothing"
    READ = "read"
    READ_AND_WRITE = "read-and-write"
    ALL = "all"


_EFFECTS = {
    InheritedLevel.NOTHING: frozenset[Effect](),
    InheritedLevel.READ: frozenset({Effect.READ}),
    InheritedLevel.READ_AND_WRITE: frozenset({Effect.READ, Effect.WRITE}),
    InheritedLevel.ALL: frozenset(Effect),
}


def inherited(
    catalogue: Catalogue, roles: Iterable[RoleHolding], level: InheritedLevel, within: Reach, tree: CollectionTree
) -> tuple[Holding, ...]:
    """Return application permissions with their reach that open nothing beyond the roles, the level and `within`.

    A permission that opens one operation too many is left out whole; what another one implies is not repeated.
    """
    found: set[Holding] = set()
    for role in roles:
        reach = overlap(role.reach, within, tree)
        if reach is None:
            continue
        mine = catalogue.opened_by_all(role.permissions)
        allowed = frozenset(name for name in mine if catalogue.operations[name].effect in _EFFECTS[level])
        fitting = {
            name
            for name, item in catalogue.permissions.items()
            if AccessKind.APPLICATION in item.kinds and catalogue.opened_by(name) <= allowed
        }
        implied = frozenset().union(*(catalogue.closure(name) - {name} for name in fitting))
        found.update(Holding(name, reach) for name in fitting - implied)
    needed = (one for one in found if not any(_swallows(catalogue, other, one) for other in found))
    return tuple(sorted(needed, key=lambda one: (one.permission, one.reach.words)))


def _swallows(catalogue: Catalogue, wide: Holding, narrow: Holding) -> bool:
    """Tell whether one holding brings another along, so that it need not be asked for."""
    return (
        wide != narrow
        and narrow.permission in catalogue.closure(wide.permission)
        and wide.reach in (EVERYWHERE, narrow.reach)
    )
