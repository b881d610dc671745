"""Collections and reach: what a tree refuses, what reaches cover together, and the same said on the wire."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.errors import BadInput
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach, ReachKind, coverage, overlap
from jamb.core.reach.details import details, document, reach_of, token_reach
from jamb.guard.reach import limits_of, within
from tests.core.build import PATHS, TREE, objects, reaches

MEMBERS = {path: TREE.members(path) for path in PATHS}

UNSOUND = {
    "a path twice": ([Collection("a", ""), Collection("a", "")], "each path once"),
    "a parent that is missing": ([Collection("a/b", "")], "a collection a"),
    "capitals": ([Collection("North", "")], "lower-case words"),
    "an empty part": ([Collection("a", ""), Collection("a//b", "")], "lower-case words"),
    "an object with white space around it": ([Collection("a", "", frozenset({" x"}))], "trimmed"),
    "too many objects": ([Collection("a", "", frozenset(map(str, range(100_001))))], "at most 100000"),
}


@pytest.mark.parametrize(("collections", "said"), UNSOUND.values(), ids=UNSOUND.keys())
def test_a_tree_that_is_not_sound_is_refused_with_the_reason(collections: list[Collection], said: str) -> None:
    with pytest.raises(BadInput) as refused:
        CollectionTree.of(collections)
    assert any(said in fault.allowed for fault in refused.value.violations)


def test_an_object_belongs_to_its_collections_and_to_all_around_them_the_smallest_first() -> None:
    assert TREE.where("i1") == ("north/inner", "north")
    assert TREE.where("both") == ("north/inner", "south", "north")
    assert TREE.where("adrift") == ()
    assert TREE.members("north") == {"n1", "n2", "i1", "both"}
    assert TREE.members("nowhere") == frozenset()


@pytest.mark.parametrize(
    ("kind", "paths"), [(ReachKind.EVERYWHERE, ["north"]), (ReachKind.ONLY, []), (ReachKind.ALL_BUT, [])]
)
def test_a_reach_names_collections_exactly_when_it_is_bounded(kind: ReachKind, paths: list[str]) -> None:
    with pytest.raises(BadInput):
        Reach.of(kind, paths)


@given(st.lists(reaches, max_size=4))
def test_what_reaches_cover_together_is_what_any_of_them_contains(several: list[Reach]) -> None:
    found = coverage(TREE, several)
    for name in TREE.everything:
        assert (name in found.objects) == any(reach.contains(TREE.where(name)) for reach in several)
    assert found.uncollected == any(reach.contains(()) for reach in several)


@given(reaches, reaches)
def test_an_overlap_is_within_both_and_exact_where_collections_allow(one: Reach, other: Reach) -> None:
    found = overlap(one, other, TREE)
    both = coverage(TREE, [one]).objects & coverage(TREE, [other]).objects
    covered = coverage(TREE, [found] if found is not None else [])
    assert covered.objects <= both
    assert covered.uncollected <= (coverage(TREE, [one]).uncollected and coverage(TREE, [other]).uncollected)
    # Collections that lie in both whole are not lost.
    whole = {name for path in PATHS if TREE.members(path) <= both for name in TREE.members(path)}
    assert whole <= covered.objects


@given(reaches)
def test_a_reach_survives_the_wire(reach: Reach) -> None:
    assert reach_of(document(reach)) == reach
    assert reach_of(document(reach) or None) == reach


names = st.frozensets(st.sampled_from(["read", "send", "list"]), min_size=1)


@given(st.lists(st.tuples(names, reaches), max_size=4), objects)
def test_a_token_says_what_is_held_and_the_guard_reads_the_same(
    held: list[tuple[frozenset[str], Reach]], found: object
) -> None:
    """RFC 9396 in both directions: each scope value counts where any holding that carries it does."""
    name = found.name  # type: ignore[attr-defined]
    entries = details("https://x.example", held)
    bounds, limits = token_reach(entries), limits_of(entries)
    for permission in frozenset().union(*(carried for carried, _ in held)):
        expected = any(reach.contains(TREE.where(name)) for carried, reach in held if permission in carried)
        read = any(reach.contains(TREE.where(name)) for reach in bounds.get(permission, (EVERYWHERE,)))
        assert read == expected
        assert within(limits.get(permission, ()), name, MEMBERS) == expected


@pytest.mark.parametrize(
    "entries",
    [
        "north",
        [{"type": "urn:other"}],
        [{"type": "urn:jamb:reach"}],
        [{"type": "urn:jamb:reach", "only": [], "all_but": []}],
    ],
)
def test_details_that_a_guard_does_not_understand_are_not_ignored(entries: object) -> None:
    with pytest.raises(ValueError, match=r"authorization_details|only or all_but"):
        limits_of(entries)
