"""The smallest permissions against trying every set."""

from __future__ import annotations

from itertools import combinations

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from jamb.core.own_api import own_catalogue
from jamb.core.permissions import AccessKind, Catalogue, Effect, smallest, weigh
from jamb.demo.scenario import BERTHS
from tests.core.build import berths, catalogues, operation, permission

APPLICATION = AccessKind.APPLICATION


def by_trying_all(catalogue: Catalogue, needed: frozenset[str], held: frozenset[str]) -> tuple[int, int] | None:
    """Return (weight beyond the need, number of permissions) of the best of all sets; None if no set will do."""
    usable = [name for name, item in catalogue.permissions.items() if APPLICATION in item.kinds]
    free = needed | catalogue.opened_by_all(held)
    best = None
    for size in range(len(usable) + 1):
        for chosen in combinations(usable, size):
            opened = catalogue.opened_by_all(chosen)
            if needed <= opened | catalogue.opened_by_all(held):
                cost = weigh(catalogue, opened - free), size
                best = min(best, cost) if best else cost
    return best


@st.composite
def needs(draw: st.DrawFn) -> tuple[Catalogue, frozenset[str], frozenset[str]]:
    catalogue = draw(catalogues())
    needed = draw(st.frozensets(st.sampled_from(sorted(catalogue.operations)), max_size=5))
    held = draw(st.frozensets(st.sampled_from(sorted(catalogue.permissions)), max_size=2))
    return catalogue, needed, held


@settings(max_examples=300)
@given(needs())
def test_no_set_opens_less_beyond_the_need_nor_is_smaller_at_that(
    case: tuple[Catalogue, frozenset[str], frozenset[str]],
) -> None:
    catalogue, needed, held = case
    found = smallest(catalogue, needed, APPLICATION, held)
    best = by_trying_all(catalogue, needed - found.unreachable, held)
    assert best is not None
    assert (found.beyond_weight, len(found.permissions)) == best
    assert found.exact
    assert found.bound == found.beyond_weight
    opened = catalogue.opened_by_all(found.permissions) | catalogue.opened_by_all(held)
    assert needed - found.unreachable <= opened
    assert found.beyond == catalogue.opened_by_all(found.permissions) - needed - catalogue.opened_by_all(held)


@given(needs(), st.integers(0, 3))
def test_cut_short_it_still_meets_the_need_and_its_bound_is_true(
    case: tuple[Catalogue, frozenset[str], frozenset[str]], steps: int
) -> None:
    catalogue, needed, held = case
    found = smallest(catalogue, needed, APPLICATION, held, most_steps=steps)
    whole = smallest(catalogue, needed, APPLICATION, held)
    assert needed - found.unreachable <= catalogue.opened_by_all({*found.permissions, *held})
    assert found.bound <= whole.beyond_weight <= found.beyond_weight


CASES = {
    "one operation, the least permission": (["list"], [], ("view",)),
    "an operation that only the biggest opens": (["close"], [], ("manage",)),
    "two, where the bigger brings the smaller along": (["list", "assign"], [], ("assign",)),
    "two that nothing combines": (["list", "arrivals"], [], ("arrivals", "view")),
    "part of it is held already": (["list", "arrivals"], ["view"], ("arrivals",)),
    "all of it is held already": (["list"], ["manage"], ()),
    "nothing is needed": ([], [], ()),
}


@pytest.mark.parametrize(("needed", "held", "expected"), CASES.values(), ids=CASES.keys())
def test_the_proposal_is_what_a_careful_person_would_pick(
    needed: list[str], held: list[str], expected: tuple[str, ...]
) -> None:
    assert smallest(berths(), needed, APPLICATION, held).permissions == expected


def test_a_shared_surplus_is_counted_once() -> None:
    """Two permissions that bring the same extra operation beat one that brings two extras."""
    catalogue = Catalogue.of(
        "x",
        "X",
        "https://x.example",
        [operation("a"), operation("b"), operation("extra"), operation("worse", effect=Effect.WRITE)],
        [permission("p", "a extra"), permission("q", "b extra"), permission("both", "a b extra worse")],
    )
    found = smallest(catalogue, ["a", "b"], APPLICATION)
    assert found.permissions == ("p", "q")
    assert found.beyond == {"extra"}


def test_what_no_permission_opens_is_said_and_the_rest_is_met() -> None:
    found = smallest(berths(), ["list", "sail"], APPLICATION)
    assert found.unreachable == {"sail"}
    assert found.permissions == ("view",)


def test_every_alternative_says_what_it_would_open_beyond() -> None:
    found = smallest(BERTHS, ["berths.list"], APPLICATION)
    assert [one.permission for one in found.alternatives] == ["berths.view", "berths.assign", "berths.manage"]
    assert found.alternatives[0].beyond == {"berths.read"}
    weights = [one.beyond_weight for one in found.alternatives]
    assert weights == sorted(weights)


GUARDED = own_catalogue("https://jamb.example")


def test_a_delegated_need_is_not_met_by_application_permissions() -> None:
    found = smallest(GUARDED, ["usage.report"], AccessKind.DELEGATED)
    assert (found.permissions, found.unreachable) == ((), {"usage.report"})
