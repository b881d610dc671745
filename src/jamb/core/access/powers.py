"""What somebody may do at all resources, and how much of it goes beyond what somebody else may do: the one measure.

Rules, escalation paths and the judgement of acts ask this, so that "covers" means the same everywhere.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from jamb.core.access.compare import Comparison, added_weight, compare, possible
from jamb.core.access.standing import HeldGrant, Holding
from jamb.core.permissions import Catalogue, weigh_operation
from jamb.core.reach import Collection, CollectionTree, Reach, coverage

# What is held, by resource.
Powers = Mapping[UUID, frozenset[Holding]]
NO_POWERS: Powers = {}


@dataclass(frozen=True, slots=True)
class Place:
    """A resource as it is, and as it was of late: what is made light or small weighs what it weighed before.

    Attributes:
        past_catalogues, past_trees: those that nobody else agreed to leave, within the days of the policy.
        own_collections: every object is a collection of its own, as clients are at Jamb's own API: the tree is made of
            those that are named, and one of them weighs as much as all.
    """

    catalogue: Catalogue
    tree: CollectionTree
    past_catalogues: tuple[Catalogue, ...] = ()
    past_trees: tuple[CollectionTree, ...] = ()
    own_collections: bool = False

    def added(self, before: Iterable[Holding], after: Iterable[Holding]) -> float:
        """Return the weight that `after` has beyond `before`: the heaviest, of now and of late.

        What comes new and can come to hold anything counts as if it held everything; what was there counts as it is.
        """
        earlier, later = frozenset(before), frozenset(after)
        trees = (self.tree_of(earlier | later), *self.past_trees)
        return max(
            added_weight(
                catalogue,
                _known(catalogue, earlier),
                _known(catalogue, earlier) | _weighed(catalogue, tree, later - earlier),
                tree,
            )
            for catalogue in (self.catalogue, *self.past_catalogues)
            for tree in trees
        )

    def compared(self, before: Iterable[Holding], after: Iterable[Holding]) -> Comparison:
        """Return what `after` makes possible that `before` does not, as things are now."""
        earlier, later = frozenset(before), frozenset(after)
        return compare(self.catalogue, earlier, later, self.tree_of(earlier | later))

    def covers(self, wider: Iterable[Holding], narrower: Iterable[Holding]) -> bool:
        """Tell whether one set of holdings opens all that another does, for all objects that it does."""
        more, less = frozenset(wider), frozenset(narrower)
        tree = self.tree_of(more | less)
        have, want = possible(self.catalogue, more, tree), possible(self.catalogue, less, tree)
        return all(name in have and covered <= have[name] for name, covered in want.items())

    def reaches(self, wider: Iterable[Reach], narrower: Iterable[Reach]) -> bool:
        """Tell whether some reaches together hold all objects that others do."""
        more, less = tuple(wider), tuple(narrower)
        tree = self._tree((*more, *less))
        return coverage(tree, less) <= coverage(tree, more)

    def tree_of(self, held: Iterable[Holding]) -> CollectionTree:
        return self._tree(one.reach for one in held)

    def _tree(self, reaches: Iterable[Reach]) -> CollectionTree:
        if not self.own_collections:
            return self.tree
        named = frozenset().union(*(one.collections for one in reaches))
        return CollectionTree({name: Collection(name, name, frozenset({name})) for name in sorted(named)})


def _weighed(catalogue: Catalogue, tree: CollectionTree, held: frozenset[Holding]) -> frozenset[Holding]:
    """Return what is known of the holdings, those that can come to hold anything as if they held everything."""
    return frozenset(
        Holding(one.permission) if tree.growing & one.reach.collections else one for one in _known(catalogue, held)
    )


def _known(catalogue: Catalogue, held: frozenset[Holding]) -> frozenset[Holding]:
    return frozenset(one for one in held if one.permission in catalogue.permissions)


@dataclass(frozen=True, slots=True)
class Beyond:
    """How much heavier one's powers are than another's, and where: the gravest operations first, in words."""

    weight: float
    words: tuple[str, ...] = ()


def beyond(places: Mapping[UUID, Place], wanted: Powers, have: Powers) -> Beyond:
    """Return what `wanted` opens that `have` does not."""
    weight, names = 0.0, []
    for key, holdings in wanted.items():
        place, mine = places[key], have.get(key, frozenset())
        added = place.added(mine, mine | holdings)
        if not added:
            continue
        weight += added
        gained = place.compared(mine, mine | holdings)
        for name in gained.newly | gained.wider:
            operation = place.catalogue.operations[name]
            names.append((-weigh_operation(operation), f"“{operation.title}” at {place.catalogue.name}"))
    return Beyond(round(weight, 1), tuple(words for _, words in sorted(names)))


# What is held, each resource and each set of holdings by a number: compared in no time.
Numbered = tuple[tuple[int, int], ...]


class Weigher:
    """Tells the weight of `beyond` for many pairs of powers, each difference at a resource weighed once."""

    def __init__(self, places: Mapping[UUID, Place]) -> None:
        self._places = list(places.values())
        self._place = {key: number for number, key in enumerate(places)}
        self._sets: dict[frozenset[Holding], int] = {}
        self._held: list[frozenset[Holding]] = []
        self._by_identity: dict[int, tuple[Powers, Numbered]] = {}
        self._weighed: dict[tuple[int, int, int], float] = {}

    def numbered(self, powers: Powers) -> Numbered:
        """Return powers by numbers; equal ones have equal numbers."""
        # Kept with what it is of, so that its identity stays its own.
        found = self._by_identity.get(id(powers))
        if found is None:
            numbers = tuple(sorted((self._place[key], self._number(held)) for key, held in powers.items()))
            found = self._by_identity[id(powers)] = powers, numbers
        return found[1]

    def beyond(self, wanted: Powers, have: Powers) -> float:
        """Return the weight that `beyond` tells of these."""
        mine, nothing = dict(self.numbered(have)), self._number(frozenset())
        return round(sum(self._added(at, mine.get(at, nothing), held) for at, held in self.numbered(wanted)), 1)

    def _number(self, held: frozenset[Holding]) -> int:
        number = self._sets.setdefault(held, len(self._held))
        if number == len(self._held):
            self._held.append(held)
        return number

    def _added(self, place: int, before: int, held: int) -> float:
        key = place, before, held
        if key not in self._weighed:
            mine = self._held[before]
            self._weighed[key] = self._places[place].added(mine, mine | self._held[held])
        return self._weighed[key]


def together(*powers: Powers) -> Powers:
    """Return all that several hold."""
    found: dict[UUID, frozenset[Holding]] = {}
    for one in powers:
        for key, holdings in one.items():
            found[key] = found.get(key, frozenset()) | holdings
    return found


def lasting(grants: Iterable[HeldGrant], now: datetime, until: datetime | None) -> list[HeldGrant]:
    """Return what is consented to and still held when something that lasts `until` (None: for good) ends.

    What a role gives is left out: a consent that it hides today opens something of its own on the day the role goes.
    """
    return [one for one in grants if not one.through and one.in_force(now) and one.lasts(until)]
