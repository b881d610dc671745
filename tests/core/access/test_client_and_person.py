"""What a client and a person may do together: never more than either, by the same decision that refuses each."""

from __future__ import annotations

from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import (
    ClientStanding,
    HeldGrant,
    Holding,
    ObjectFacts,
    PersonStanding,
    Request,
    RoleHolding,
    TokenFacts,
    decide,
)
from jamb.core.authorization.client_and_person import both_may
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach
from tests.core.build import NOW

BOTH = frozenset(AccessKind)
NAMES = ("read", "list", "write", "wipe")
CATALOGUE = Catalogue.of(
    "boxes",
    "Boxes",
    "https://boxes.example",
    [
        Operation("list", "List", "GET", "/boxes", Effect.READ, DataClass.INTERNAL),
        Operation("read", "Read", "GET", "/boxes/{box}", Effect.READ, DataClass.INTERNAL),
        Operation("write", "Write", "PUT", "/boxes/{box}", Effect.WRITE, DataClass.INTERNAL),
        Operation("wipe", "Wipe", "DELETE", "/boxes/{box}", Effect.WRITE, DataClass.INTERNAL),
    ],
    [
        Permission("boxes.list", "List", BOTH, frozenset({"list"})),
        Permission("boxes.read", "Read", BOTH, frozenset({"read"}), frozenset({"boxes.list"})),
        Permission("boxes.write", "Write", BOTH, frozenset({"write"}), frozenset({"boxes.read"})),
        Permission("boxes.clean", "Clean", BOTH, frozenset({"wipe", "list"})),
        Permission("boxes.all", "All", BOTH, frozenset(), frozenset({"boxes.write", "boxes.clean"})),
    ],
    "box",
)
TREE = CollectionTree.of(
    Collection(path, path, frozenset(objects))
    for path, objects in {"a": {"a1", "a2"}, "a/inner": {"a1"}, "b": {"b1"}, "c": set()}.items()
)
OBJECTS = [("a1", ("a/inner", "a")), ("a2", ("a",)), ("b1", ("b",)), ("x", ())]
paths = st.sets(st.sampled_from(["a", "a/inner", "b", "c"]), min_size=1)
reaches = st.one_of(
    st.just(EVERYWHERE), paths.map(lambda some: Reach.only(*some)), paths.map(lambda some: Reach.all_but(*some))
)
held = st.lists(st.builds(Holding, st.sampled_from(sorted(CATALOGUE.permissions)), reaches), max_size=4)


@given(held, held)
def test_a_token_for_both_opens_what_both_may_do_and_nothing_else(client: list[Holding], person: list[Holding]) -> None:
    counts = both_may(CATALOGUE, TREE, client, person)
    bounds = {name: reach for name, reach in counts.items() if EVERYWHERE not in reach}
    token = TokenFacts(frozenset(counts), NOW, bounds)
    begun = NOW - timedelta(days=1)
    standing = ClientStanding(
        "c",
        "C",
        True,
        grants=tuple(HeldGrant(one.permission, AccessKind.DELEGATED, begun, reach=one.reach) for one in client),
    )
    somebody = PersonStanding(
        "p", "P", True, tuple(RoleHolding(one.permission, frozenset({one.permission}), one.reach) for one in person)
    )
    for operation in NAMES:
        for name, where in OBJECTS:
            asked = Request(operation, AccessKind.DELEGATED, somebody, None, ObjectFacts(name, where))
            may = decide(CATALOGUE, standing, asked, NOW).allowed
            carried = [one for one in counts if operation in CATALOGUE.opened_by(one)]
            opens = any(
                not CATALOGUE.concerns_object(operation) or any(reach.contains(where) for reach in counts[one])
                for one in carried
            )
            # Of a guard that sees the token alone.
            assert may or not opens, (operation, name)
            with_token = Request(operation, AccessKind.DELEGATED, somebody, token, ObjectFacts(name, where))
            assert decide(CATALOGUE, standing, with_token, NOW).allowed is (may and opens)


@given(held)
def test_who_holds_the_same_as_the_client_has_all_of_it(client: list[Holding]) -> None:
    everywhere = [Holding(one.permission) for one in client]
    counts = both_may(CATALOGUE, TREE, everywhere, everywhere)
    named = frozenset().union(*(CATALOGUE.closure(one.permission) for one in everywhere))
    assert counts == dict.fromkeys(named, (EVERYWHERE,))
    assert both_may(CATALOGUE, TREE, client, []) == both_may(CATALOGUE, TREE, [], client) == {}


def test_a_part_of_what_was_consented_to_counts_where_the_person_may_do_that_part_alone() -> None:
    counts = both_may(CATALOGUE, TREE, [Holding("boxes.all")], [Holding("boxes.read", Reach.only("a"))])
    assert counts == {"boxes.list": (EVERYWHERE,), "boxes.read": (Reach.only("a"),)}
    narrowed = both_may(
        CATALOGUE, TREE, [Holding("boxes.read", Reach.only("a/inner", "b"))], [Holding("boxes.read", Reach.only("a"))]
    )
    assert narrowed["boxes.read"] == (Reach.only("a/inner"),)
