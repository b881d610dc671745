"""The smallest reach, the smallest grant, what a dry run misses, excess by day, and ways to take things over."""

from __future__ import annotations

from datetime import date, timedelta
from itertools import combinations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import HeldGrant, Holding
from jamb.core.audit.escalation import Arrow, Node, NodeKind, escalation_paths
from jamb.core.audit.excess import excess_at, trend
from jamb.core.audit.picture import ResourcePicture
from jamb.core.audit.rightsizing import misses, smaller_grant
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.ladder import Use, ladder
from jamb.core.permissions import AccessKind, Catalogue, Effect
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach, coverage
from jamb.core.reach.collections import ancestors
from jamb.core.reach.fewest import smallest_reach
from tests.core.audit.test_audit import MAIL, MAIL_DESKS
from tests.core.build import NOW, operation, permission

APPLICATION = AccessKind.APPLICATION
DAY = timedelta(days=1)
POLICY = DirectoryPolicy()
OBJECTS = "abcdefgh"
TREES = st.lists(
    st.tuples(st.sampled_from(["n", "n/i", "n/i/x", "s", "s/o", "f"]), st.sets(st.sampled_from(OBJECTS), max_size=5)),
    min_size=1,
    max_size=6,
    unique_by=lambda pair: pair[0],
)


def tree_of(rows: list[tuple[str, set[str]]]) -> CollectionTree:
    paths = dict(rows)
    for path in list(paths):
        for above in ancestors(path):
            paths.setdefault(above, set())
    return CollectionTree.of([Collection(path, path, frozenset(objects)) for path, objects in paths.items()])


def by_trying_all(tree: CollectionTree, touched: frozenset[str], within: frozenset[str]) -> tuple[int, int] | None:
    """Return the least further objects and then the fewest collections, by looking at every choice within some."""
    best, fitting = None, [path for path in tree.collections if tree.members(path) <= within]
    for size in range(1, len(fitting) + 1):
        for paths in combinations(fitting, size):
            covered = frozenset().union(*(tree.members(path) for path in paths))
            if touched <= covered:
                cost = (len(covered - touched), size)
                best = cost if best is None or cost < best else best
    return best


@given(rows=TREES, touched=st.sets(st.sampled_from(OBJECTS), min_size=1), outside=st.sets(st.sampled_from(OBJECTS)))
def test_the_smallest_reach_is_that_of_looking_at_every_choice_within_what_is_held(
    rows: list[tuple[str, set[str]]], touched: set[str], outside: set[str]
) -> None:
    tree = tree_of(rows)
    held = tree.everything - outside
    found, best = smallest_reach(tree, touched, within=held), by_trying_all(tree, frozenset(touched), held)
    if found is None:
        assert best is None
        return
    assert found.exact
    assert touched <= coverage(tree, [found.reach]).objects <= held
    assert (found.beyond, len(found.reach.collections)) == best


def test_a_stopped_search_still_covers_and_says_that_it_is_not_proven() -> None:
    tree = tree_of([("n", set("abc")), ("s", set("bcd")), ("f", set("de"))])
    found = smallest_reach(tree, "abcde", most_steps=1)
    assert found is not None
    assert not found.exact
    assert coverage(tree, [found.reach]).objects >= set("abcde")


def mail(
    *uses: str, reach: Reach = EVERYWHERE, days: int = 30, objects: dict[str, set[str]] | None = None
) -> ResourcePicture:
    """Reading and sending granted so long ago, with these uses and objects."""
    grants = [HeldGrant(name, APPLICATION, NOW - days * DAY, reach=reach) for name in ("read", "send")]
    seen = [Use(name, APPLICATION, NOW.date(), 1, NOW - DAY) for name in uses]
    rungs = ladder(MAIL, [], grants, seen, NOW, POLICY.observation, POLICY.use_counts)
    touched = {name: frozenset(names) for name, names in (objects or {}).items()}
    return ResourcePicture(MAIL, rungs, MAIL_DESKS, touched)


FITS = {
    "reads one desk": (mail("mail.read", objects={"mail.read": {"duty"}}), ("read",), "only desk"),
    "reads, nobody says what": (mail("mail.read"), ("read",), "everywhere"),
    "reads something in no collection": (
        mail("mail.read", objects={"mail.read": {"", "duty"}}),
        ("read",),
        "everywhere",
    ),
    "does nothing": (mail(), (), "everywhere"),
    "does all of it, within its reach": (
        mail(
            "mail.read", "mail.send", reach=Reach.only("desk"), objects={"mail.read": {"duty"}, "mail.send": {"night"}}
        ),
        None,
        "",
    ),
    "does both, at the board": (
        mail("mail.read", "mail.send", objects={"mail.read": {"chair"}, "mail.send": {"papers"}}),
        ("read", "send"),
        "only board",
    ),
    "is not judged yet": (mail("mail.read", days=13), None, ""),
}


@pytest.mark.parametrize(("place", "permissions", "reach"), FITS.values(), ids=FITS.keys())
def test_what_would_do_opens_what_was_done_and_never_more_than_is_held(
    place: ResourcePicture, permissions: tuple[str, ...] | None, reach: str
) -> None:
    found = smaller_grant(place, POLICY, NOW)
    assert (found.permissions if found else None) == permissions
    if found is not None:
        assert found.reach.words == reach
        assert found.weight_after < found.weight_before
        held = coverage(place.tree, [one.reach for one in found.held])
        assert coverage(place.tree, [one.reach for one in found.after]) <= held or not found.after


def test_what_weighs_less_but_gives_something_new_is_no_fit() -> None:
    """It is put in force without a consent: neither another operation nor an operation elsewhere may come with it."""
    operations = [
        operation("list"),
        operation("peek"),
        operation("wipe", effect=Effect.CONTROL),
        operation("read", "/boxes/{box}"),
        operation("label", "/boxes/{box}/label", Effect.WRITE),
    ]
    permissions = [
        permission("run", "list wipe"),
        permission("look", "list peek"),
        permission("see", "read wipe"),
        permission("mark", "label read"),
    ]
    shop = Catalogue.of("shop", "Shop", "https://shop.example", operations, permissions, object_name="box")
    desks = CollectionTree.of([Collection("a", "A", {"1"}), Collection("b", "B", {"2"})])

    def place(grants: dict[str, Reach], *uses: str, objects: dict[str, frozenset[str]]) -> ResourcePicture:
        held = [HeldGrant(name, APPLICATION, NOW - 30 * DAY, reach=reach) for name, reach in grants.items()]
        seen = [Use(name, APPLICATION, NOW.date(), 1, NOW - DAY) for name in uses]
        rungs = ladder(shop, [], held, seen, NOW, POLICY.observation, POLICY.use_counts)
        return ResourcePicture(shop, rungs, desks, objects)

    # "look" weighs less than "run", and would open "peek".
    assert smaller_grant(place({"run": EVERYWHERE}, "list", objects={}), POLICY, NOW) is None
    # "mark" alone would do for both, and would then label in "b", too.
    both = place(
        {"see": EVERYWHERE, "mark": Reach.only("a")},
        "read",
        "label",
        objects={"read": frozenset({"2"}), "label": frozenset({"1"})},
    )
    assert smaller_grant(both, POLICY, NOW) is None


def test_a_dry_run_counts_what_it_would_have_refused() -> None:
    after = [Holding("read", Reach.only("desk"))]

    def missed(operation: str, objects: dict[str, int], calls: int = 9) -> dict[str, int]:
        return misses(MAIL, MAIL_DESKS, after, operation, objects, calls)

    assert missed("mail.read", {"duty": 5, "night": 1}) == {}
    assert missed("mail.read", {"duty": 5, "chair": 3, "": 1}) == {"chair": 3, "": 1}
    assert missed("mail.send", {"duty": 2}) == {"duty": 2}
    assert missed("mail.send", {}) == {"": 9}


def test_a_bounded_grant_weighs_its_share_of_the_objects() -> None:
    whole, part = mail("mail.read"), mail("mail.read", reach=Reach.only("desk"))
    assert excess_at(whole, NOW, POLICY.observation).granted_weight == 16
    assert excess_at(part, NOW, POLICY.observation).granted_weight == pytest.approx(16 * 2 / 5, abs=0.001)
    assert excess_at(mail(days=13), NOW, POLICY.observation) == type(excess_at(whole, NOW, DAY))(0, 0, 16)


@given(
    changes=st.lists(st.tuples(st.integers(-9, 40), st.integers(-5, 5), st.integers(-5, 5)), max_size=12),
    days=st.integers(1, 50),
)
def test_a_trend_is_the_sum_of_the_changes_up_to_each_day(changes: list[tuple[int, int, int]], days: int) -> None:
    """What a clock that was ahead noted under a day to come counts from today on."""
    until = date(2026, 3, 1)
    rows = [(until - timedelta(days=back), float(granted), float(unused)) for back, granted, unused in changes]
    found = trend(rows, until, days)
    for day, one in found:
        assert one.granted_weight == sum(granted for at, granted, _ in rows if min(at, until) <= day)
        assert one.unused_weight == sum(unused for at, _, unused in rows if min(at, until) <= day)
    assert len(found) == (min(days, max(max(back, 0) for back, *_ in changes) + 1) if changes else 0)


# Ways to take things over

NAMES = [f"n{number}" for number in range(7)]
ARROWS = st.lists(st.tuples(st.sampled_from(NAMES), st.sampled_from(NAMES), st.integers(0, 4)), max_size=14)


def distances(arrows: list[tuple[str, str, int]], source: str) -> dict[str, int]:
    """Return how many steps each node is away, by walking on until nothing new is found."""
    found, edge = {source: 0}, {source}
    while edge:
        edge = {target for start, target, _ in arrows if start in edge} - found.keys()
        found |= dict.fromkeys(edge, max(found.values()) + 1)
    return found


@given(arrows=ARROWS, weights=st.lists(st.sampled_from([0.0, 50.0, 100.0]), min_size=7, max_size=7))
def test_ways_are_the_shortest_and_cuts_part_what_they_say(
    arrows: list[tuple[str, str, int]], weights: list[float]
) -> None:
    arrows = [one for one in arrows if one[0] != one[1]]
    nodes = [Node(name, NodeKind.CLIENT, name, weight) for name, weight in zip(NAMES, weights, strict=True)]
    made = [Arrow(source, target, f"by {cut}", f"cut{cut}") for source, target, cut in arrows]
    found = escalation_paths(nodes, made, weak_below=25, strong_from=100, most=100)
    weight = dict(zip(NAMES, weights, strict=True))

    def pairs(rows: list[tuple[str, str, int]]) -> dict[tuple[str, str], int]:
        return {
            (source, target): steps
            for source in NAMES
            if weight[source] < 25
            for target, steps in distances(rows, source).items()
            if weight[target] >= 100
        }

    expected = pairs(arrows)
    assert found.pairs == len(expected)
    assert {(way.source.id, way.target.id): len(way.arrows) for way in found.paths} == expected
    for way in found.paths:
        assert [way.source.id, *(arrow.target for arrow in way.arrows)][-1] == way.target.id
    for cut in found.cuts:
        left = [one for one in arrows if f"cut{one[2]}" != cut.cut]
        assert cut.closes == len(expected) - len(pairs(left)) > 0
    few = escalation_paths(nodes, made, weak_below=25, strong_from=100, most=1)
    for cut in few.cuts:
        assert any(arrow.cut == cut.cut for way in few.paths for arrow in way.arrows)
