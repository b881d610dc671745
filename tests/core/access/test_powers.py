"""How much of what somebody may do goes beyond what somebody else may: the measure of every judgement."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from uuid import UUID

from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import HeldGrant, Holding
from jamb.core.access.compare import across, refilled
from jamb.core.access.powers import NO_POWERS, Place, Powers, Weigher, beyond, lasting, together
from jamb.core.permissions import AccessKind, Catalogue, Effect
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach, ReachKind
from tests.core.build import NOW, TREE, berths, catalogues, operation, permission, reaches

HERE, THERE = UUID(int=1), UUID(int=2)


@st.composite
def held(draw: st.DrawFn, catalogue: Catalogue) -> frozenset[Holding]:
    names = st.sampled_from(sorted(catalogue.permissions))
    return draw(st.frozensets(st.builds(Holding, names, reaches), max_size=4))


@st.composite
def two(draw: st.DrawFn) -> tuple[Place, frozenset[Holding], frozenset[Holding]]:
    catalogue = draw(catalogues())
    return Place(catalogue, TREE), draw(held(catalogue)), draw(held(catalogue))


@given(two())
def test_nothing_is_beyond_what_covers_it_and_something_is_beyond_what_does_not(
    drawn: tuple[Place, frozenset[Holding], frozenset[Holding]],
) -> None:
    place, mine, theirs = drawn
    found = beyond({HERE: place}, {HERE: theirs}, {HERE: mine})
    if place.covers(mine, theirs):
        assert (found.weight, found.words) == (0, ())
    else:
        assert found.words, "what is beyond is named"
    assert place.covers(mine | theirs, theirs)
    assert place.covers(mine, frozenset())


@given(two())
def test_more_that_is_held_leaves_less_beyond_and_more_that_is_wanted_leaves_more(
    drawn: tuple[Place, frozenset[Holding], frozenset[Holding]],
) -> None:
    place, mine, theirs = drawn
    places = {HERE: place}
    nothing = beyond(places, {HERE: theirs}, NO_POWERS).weight
    assert beyond(places, {HERE: theirs}, {HERE: mine}).weight <= nothing + 0.05
    assert beyond(places, {HERE: theirs | mine}, NO_POWERS).weight >= nothing - 0.05


@given(st.lists(two(), min_size=1, max_size=4))
def test_many_pairs_weigh_what_each_weighs_alone(
    drawn: list[tuple[Place, frozenset[Holding], frozenset[Holding]]],
) -> None:
    place = drawn[0][0]
    places, kept = {HERE: place, THERE: place}, Weigher({HERE: place, THERE: place})
    known = place.catalogue.permissions.keys()
    sets = [frozenset(one for one in held if one.permission in known) for _, *both in drawn for held in both]
    powers: list[Powers] = [{HERE: one, THERE: other} for one, other in zip(sets, reversed(sets), strict=True)]
    for wanted in powers:
        for have in (NO_POWERS, *powers):
            assert kept.beyond(wanted, have) == beyond(places, wanted, have).weight
    assert [kept.numbered(dict(one)) for one in powers] == [kept.numbered(one) for one in powers]


@given(two())
def test_what_was_heavy_of_late_weighs_what_it_weighed(
    drawn: tuple[Place, frozenset[Holding], frozenset[Holding]],
) -> None:
    place, mine, theirs = drawn
    past = Place(place.catalogue, place.tree, (berths(),), (CollectionTree.of([]),))
    assert past.added(mine, mine | theirs) >= place.added(mine, mine | theirs)


def test_clients_are_collections_of_their_own_and_one_weighs_as_much_as_all() -> None:
    made = [operation("read", "/c/{client}"), operation("issue", "/c/{client}/secrets", Effect.CONTROL)]
    permissions = [permission("view", "read"), permission("manage", "issue", "view")]
    catalogue = Catalogue.of("jamb", "Jamb", "https://jamb.example", made, permissions, "client")
    place = Place(catalogue, TREE, own_collections=True)
    one, other = (Reach(ReachKind.ONLY, frozenset({name})) for name in ("c1", "c2"))
    alone = place.added((), [Holding("manage", one)])
    assert alone == place.added((), [Holding("manage", one), Holding("manage", other)]) > 0
    assert place.reaches([EVERYWHERE], [one, other])
    assert not place.reaches([one], [other])
    assert not place.covers([Holding("manage", one)], [Holding("view", other)])


def test_powers_are_added_up_by_resource() -> None:
    first: Powers = {HERE: frozenset({Holding("view")})}
    second: Powers = {HERE: frozenset({Holding("assign")}), THERE: frozenset({Holding("view")})}
    assert together(first, second) == {
        HERE: {Holding("view"), Holding("assign")},
        THERE: {Holding("view")},
    }
    assert together() == {}
    places = {key: Place(berths(), TREE) for key in (HERE, THERE)}
    gained = beyond(places, together(first, second), first)
    assert gained.words == ("“Assign” at berths", "“List” at berths")


def test_what_lasts_is_consented_to_and_outlives_what_is_asked_about() -> None:
    def grant(days: int | None, **more: object) -> HeldGrant:
        ends = NOW + timedelta(days=days) if days is not None else None
        return HeldGrant("view", AccessKind.APPLICATION, NOW - timedelta(days=9), ends, **more)  # type: ignore[arg-type]

    endless, long, short, role = grant(None), grant(20), grant(5), grant(None, through="keeper")
    ended = grant(-1)
    rows = [endless, long, short, role, ended]
    assert lasting(rows, NOW, None) == [endless]
    assert lasting(rows, NOW, NOW + timedelta(days=10)) == [endless, long]
    assert lasting(rows, NOW, NOW + timedelta(days=1)) == [endless, long, short]


def test_a_little_of_much_is_never_told_as_nothing() -> None:
    tree = CollectionTree.of(
        [Collection("one", "One", frozenset({"a"})), Collection("rest", "Rest", frozenset(map(str, range(5000))))]
    )

    def made(effect: Effect) -> Catalogue:
        return Catalogue.of(
            "b", "B", "https://b.example", [operation("read", "/b/{b}", effect)], [permission("view", "read")], "b"
        )

    held = [Holding("view", Reach(ReachKind.ONLY, frozenset({"one"})))]
    heavier = across(made(Effect.READ), made(Effect.CONTROL), held, tree)
    assert heavier is not None
    assert heavier.added_weight == 0.1
    more = replace(tree.collections["one"], objects=frozenset({"a", "another"}))
    assert refilled(made(Effect.READ), held, tree, CollectionTree.of([more, tree.collections["rest"]])) == 0.1
    assert refilled(made(Effect.READ), held, tree, tree) == 0
