"""A changed catalogue, kept to what those who hold its permissions were consented: narrower acts, wider waits."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import replace

from jamb.core.permissions.catalogue import Catalogue, ConsentBy, Operation, Permission
from jamb.core.permissions.weight import weigh_operation


def kept_within(before: Catalogue, after: Catalogue, held: Iterable[str]) -> Catalogue:
    """Return `after` without whatever would let a holder of one of the `held` permissions do more than `before` did.

    For every held permission p, closure(p) and E(p) of the result lie within those of `before`. Operations keep their
    weight where `after` makes them lighter, and go on naming an object where `after` has them name none; whoever may
    consent stays, where `after` would leave it to each person. What holds everywhere else is as in `after`.
    """
    frozen = frozenset().union(*(before.closure(name) for name in held)) & after.permissions.keys()
    permissions = []
    for name, item in after.permissions.items():
        known = before.permissions.get(name)
        kept = item
        if name in frozen:
            kept = replace(
                item, unlocks=item.unlocks & before.opened_by(name), implies=item.implies & before.closure(name)
            )
        if known is not None and known.consent_by is ConsentBy.ADMINISTRATOR:
            kept = replace(kept, consent_by=ConsentBy.ADMINISTRATOR)
        permissions.append(kept)
    by_name = {one.name: one for one in permissions}
    if not all(_opens(name, by_name) for name in by_name):
        # A held permission would open other things altogether, and nothing until somebody agrees: all of it waits.
        return before
    operations = [_kept(before, after, item) for item in after.operations.values()]
    return Catalogue.of(after.name, after.title, after.identifier, operations, permissions, after.object_name)


def _opens(name: str, permissions: Mapping[str, Permission]) -> bool:
    item = permissions[name]
    return bool(item.unlocks) or any(_opens(one, permissions) for one in item.implies)


def _kept(before: Catalogue, after: Catalogue, item: Operation) -> Operation:
    known = before.operations.get(item.name)
    if known is None:
        return item
    if weigh_operation(item) < weigh_operation(known):
        item = replace(item, effect=known.effect, data_class=known.data_class)
    if before.concerns_object(item.name) and not after.concerns_object(item.name):
        item = replace(item, method=known.method, path=known.path)
    return item
