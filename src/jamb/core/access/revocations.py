"""What was taken away from tokens that still live, derived from what a client holds and held.

A bound says: of tokens issued until this moment, these scope values count only there, or nowhere. Tokens say in whole
seconds when they were made; a bound holds for the whole second of its moment.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import datetime
from operator import attrgetter

from jamb.core.access.standing import HeldGrant
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import EVERYWHERE, Reach


@dataclass(frozen=True, slots=True)
class Revocation:
    """Of tokens of this kind for this person issued until `until` (None stands for any kind, and for any person).

    `permissions` None: nothing of such a token counts any more. Otherwise each counts only within `reach`: in any of
    these, nowhere when there is none.
    """

    client_id: str
    kind: AccessKind | None
    person_id: str | None
    until: datetime
    permissions: tuple[str, ...] | None
    reach: tuple[Reach, ...]


@dataclass(frozen=True, slots=True)
class PastHolding:
    """What a client holds or held, when that was last changed, and whether a role gives it."""

    grant: HeldGrant
    changed_at: datetime | None
    by_role: bool = False

    def changed_since(self, since: datetime, now: datetime) -> datetime | None:
        """Return when it last ended or was changed since a moment.

        An end to come is not heard yet. A change always is: of several in one second, the later ones count as of the
        seconds that follow, and tokens made after them say so.
        """
        ended = self.grant.expires_at if self.grant.expires_at is not None and self.grant.expires_at <= now else None
        moments = [one for one in (ended, self.changed_at) if one is not None and one > since]
        return max(moments, default=None)


def revocations_of(
    catalogue: Catalogue, client_id: str, held: Sequence[PastHolding], since: datetime, now: datetime
) -> Iterable[Revocation]:
    """Yield, for what ended or was changed since a moment, where the scope values it carried still count.

    Args:
        held: all that the client holds or held at the resource of the catalogue.
        since: no token from before this moment lives.
    """
    for one in held:
        until = one.changed_since(since, now)
        if until is None:
            continue
        # A role that was changed may have bundled anything before: all that its holder does not still hold is out.
        carried = catalogue.permissions.keys() if one.by_role else catalogue.closure(one.grant.permission)
        # A permission that the resource dropped meanwhile may still stand in a token.
        names = {one.grant.permission, *carried}
        by_reach: dict[tuple[Reach, ...], list[str]] = {}
        for name in sorted(names):
            still = _still(catalogue, held, one.grant, name, until, now)
            if EVERYWHERE not in still:
                by_reach.setdefault(tuple(sorted(still, key=attrgetter("words"))), []).append(name)
        for left, affected in by_reach.items():
            yield Revocation(client_id, one.grant.kind, one.grant.person_id, until, tuple(affected), left)


def _still(
    catalogue: Catalogue, held: Sequence[PastHolding], grant: HeldGrant, name: str, until: datetime, now: datetime
) -> set[Reach]:
    """Return where holdings from before the change still let a scope value count, of the same kind and person."""
    return {
        other.grant.reach
        for other in held
        if other.grant.kind is grant.kind
        and other.grant.in_force(now)
        and other.grant.granted_at <= until
        and other.grant.person_id in (None, grant.person_id)
        and name in catalogue.closure(other.grant.permission)
    }
