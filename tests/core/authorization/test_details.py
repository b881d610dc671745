"""What comes of details is within what both may, and within what was asked, whatever the collections are."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import Holding
from jamb.core.authorization.client_and_person import both_may, within
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach
from jamb.core.reach.reach import coverage

_BOTH = frozenset(AccessKind)
CATALOGUE = Catalogue.of(
    "quays",
    "Quays",
    "https://quays.example",
    [
        Operation("look", "Look", "GET", "/quays/{quay}", Effect.READ, DataClass.INTERNAL),
        Operation("moor", "Moor", "PUT", "/quays/{quay}", Effect.WRITE, DataClass.INTERNAL),
    ],
    [
        Permission("quays.look", "Look", _BOTH, frozenset({"look"})),
        Permission("quays.moor", "Moor", _BOTH, frozenset({"moor"}), frozenset({"quays.look"})),
    ],
    "quay",
)
PLACES = ("north", "north/inner", "south", "fuel")
TREE = CollectionTree.of(
    [Collection(path, path, frozenset({f"{path}-{number}" for number in range(3)}), "") for path in PLACES]
)

reaches = st.one_of(
    st.just(EVERYWHERE),
    st.sets(st.sampled_from(PLACES), min_size=1).map(lambda paths: Reach.only(*paths)),
    st.sets(st.sampled_from(PLACES), min_size=1).map(lambda paths: Reach.all_but(*paths)),
)
holdings = st.lists(st.builds(Holding, st.sampled_from(sorted(CATALOGUE.permissions)), reaches), max_size=4)


def touched(held: list[Holding], operation: str) -> frozenset[str]:
    opening = [one.reach for one in held if operation in CATALOGUE.opened_by(one.permission)]
    return coverage(TREE, opening).objects


@given(client=holdings, person=holdings, asked=holdings)
def test_nothing_is_reached_that_one_of_the_three_does_not_reach(
    client: list[Holding], person: list[Holding], asked: list[Holding]
) -> None:
    both = both_may(CATALOGUE, TREE, client, person)
    counts = within(CATALOGUE, TREE, both, asked)
    carried = [Holding(name, reach) for name, found in counts.items() for reach in found]
    for operation in CATALOGUE.operations:
        reached = touched(carried, operation)
        for side in (client, person, asked):
            assert reached <= touched(side, operation)


@given(client=holdings, person=holdings)
def test_asked_for_everywhere_it_is_what_both_may(client: list[Holding], person: list[Holding]) -> None:
    both = both_may(CATALOGUE, TREE, client, person)
    everything = [Holding(name) for name in CATALOGUE.permissions]
    counts = within(CATALOGUE, TREE, both, everything)
    for operation in CATALOGUE.operations:
        found, before = (
            touched([Holding(name, reach) for name, rows in each.items() for reach in rows], operation)
            for each in (counts, both)
        )
        assert found == before
