"""What a changed catalogue or changed collections give to whoever holds something already: never more than consented."""

from __future__ import annotations

from dataclasses import replace

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.permissions import Catalogue, ConsentBy, DataClass, Effect, kept_within, weigh_operation
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach, ReachKind
from jamb.core.reach import kept_within as kept_trees
from tests.core.build import TREE, berths, catalogues, operation, permission, reaches


@st.composite
def changed(draw: st.DrawFn) -> tuple[Catalogue, Catalogue, frozenset[str]]:
    """A catalogue, what somebody would make of it, and what is held: permissions and operations drawn anew."""
    before = draw(catalogues())
    other = draw(catalogues())
    operations = [
        replace(item, effect=draw(st.sampled_from(list(Effect))), data_class=draw(st.sampled_from(list(DataClass))))
        for item in (before.operations | other.operations).values()
    ]
    consents = st.sampled_from(list(ConsentBy))
    permissions = [replace(item, consent_by=draw(consents)) for item in other.permissions.values()]
    after = Catalogue.of("x", "X", "https://x.example", operations, permissions, "thing")
    held = draw(st.frozensets(st.sampled_from(sorted(before.permissions))))
    return before, after, held


@given(changed())
def test_who_holds_a_permission_can_do_no_more_than_before_and_nothing_of_it_grows_light(
    drawn: tuple[Catalogue, Catalogue, frozenset[str]],
) -> None:
    before, after, held = drawn
    kept = kept_within(before, after, held)
    for name in held & kept.permissions.keys():
        assert kept.closure(name) <= before.closure(name)
        assert kept.opened_by(name) <= before.opened_by(name)
    for name in before.operations.keys() & kept.operations.keys():
        assert weigh_operation(kept.operations[name]) >= weigh_operation(before.operations[name])
        assert kept.concerns_object(name) or not before.concerns_object(name)
    for name in before.permissions.keys() & kept.permissions.keys():
        if before.permissions[name].consent_by is ConsentBy.ADMINISTRATOR:
            assert kept.permissions[name].consent_by is ConsentBy.ADMINISTRATOR


@given(changed())
def test_what_nobody_holds_is_changed_as_it_was_wanted(
    drawn: tuple[Catalogue, Catalogue, frozenset[str]],
) -> None:
    before, after, held = drawn
    kept = kept_within(before, after, held)
    if kept == before:
        return
    frozen = frozenset().union(*(before.closure(name) for name in held))
    for name, item in after.permissions.items():
        if name not in frozen:
            assert (kept.permissions[name].unlocks, kept.permissions[name].implies) == (item.unlocks, item.implies)
    assert kept_within(before, kept, held) == kept, "what is kept is kept again"


def test_a_held_permission_that_would_open_other_things_altogether_waits_whole() -> None:
    before = berths()
    permissions = [permission("view", "close"), *(item for name, item in before.permissions.items() if name != "view")]
    after = Catalogue.of("berths", "Berths", "https://berths.example", before.operations.values(), permissions)
    assert kept_within(before, after, ["view"]) == before
    assert kept_within(before, after, ["arrivals"]).opened_by("view") == {"close"}, "where nobody holds it, it is so"


def test_an_operation_that_named_an_object_goes_on_to() -> None:
    def made(path: str) -> Catalogue:
        return Catalogue.of("b", "B", "https://b.example", [operation("read", path)], [permission("view", "read")], "b")

    assert kept_within(made("/b/{b}"), made("/all"), []).concerns_object("read")
    assert not kept_within(made("/all"), made("/all"), []).concerns_object("read")


# Collections

OBJECTS = ("n1", "n2", "i1", "both", "s1", "new1", "new2")


@st.composite
def trees(draw: st.DrawFn) -> CollectionTree:
    sets = st.frozensets(st.sampled_from(OBJECTS), max_size=4)
    rules = st.sampled_from(["", "", "whatever lies north", "whatever lies south"])
    return CollectionTree.of(
        Collection(path, path, draw(sets), draw(rules)) for path in ("north", "north/inner", "south", "empty")
    )


def follows(tree: CollectionTree, other: CollectionTree, path: str) -> bool:
    """Tell whether a path, or anything in or above it, follows the same rule in both trees."""
    related = (one for one in tree.collections if f"{one}/".startswith(f"{path}/") or f"{path}/".startswith(f"{one}/"))
    return any(
        tree.collections[one].rule and tree.collections[one].rule == other.collections[one].rule for one in related
    )


@given(trees(), trees(), st.lists(reaches, max_size=4))
def test_a_reach_holds_no_object_that_it_did_not_hold_before_but_by_a_rule_that_was_consented_to(
    before: CollectionTree, after: CollectionTree, held: list[Reach]
) -> None:
    kept = kept_trees(before, after, held)
    for reach in held:
        if reach.kind is ReachKind.EVERYWHERE or any(follows(before, after, path) for path in reach.collections):
            continue
        for name in OBJECTS:
            assert reach.contains(before.where(name)) or not reach.contains(kept.where(name)), (reach.words, name)


@given(trees(), trees())
def test_where_no_reach_names_a_collection_all_is_as_wanted(before: CollectionTree, after: CollectionTree) -> None:
    assert kept_trees(before, after, []) == after
    assert kept_trees(before, after, [EVERYWHERE]) == after


def test_objects_put_into_a_collection_that_is_reached_stay_out_until_somebody_agrees() -> None:
    more = CollectionTree.of(
        replace(one, objects=one.objects | {"fresh"}) if one.path == "north/inner" else one
        for one in TREE.collections.values()
    )
    only = Reach(ReachKind.ONLY, frozenset({"north"}))
    assert "fresh" not in kept_trees(TREE, more, [only]).members("north")
    assert "fresh" in kept_trees(TREE, more, [Reach(ReachKind.ONLY, frozenset({"south"}))]).members("north")
    fewer = CollectionTree.of(
        replace(one, objects=one.objects - {"s1"}) if one.path == "south" else one for one in TREE.collections.values()
    )
    shut_out = Reach(ReachKind.ALL_BUT, frozenset({"south"}))
    assert "s1" in kept_trees(TREE, fewer, [shut_out]).members("south"), "what is left out stays out"
