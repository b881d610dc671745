"""Catalogues: what is refused at the door, and what E(p) means."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.errors import BadInput
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission, weigh
from jamb.demo.scenario import RESOURCES
from tests.core.build import BOTH, catalogues, operation, permission

FAULTY = {
    "an operation named twice": ([operation("a"), operation("a")], [permission("p", "a")], "operations"),
    "a permission named twice": ([operation("a")], [permission("p", "a"), permission("p", "a")], "permissions"),
    "unlocks what does not exist": ([operation("a")], [permission("p", "a b")], "permissions.p.unlocks"),
    "implies what does not exist": ([operation("a")], [permission("p", "a", "q")], "permissions.p.implies"),
    "implies itself": ([operation("a")], [permission("p", "a", "p")], "permissions.p.implies"),
    "implies in a circle": (
        [operation("a")],
        [permission("p", "a", "q"), permission("q", "", "r"), permission("r", "", "p")],
        "permissions.p.implies",
    ),
    "unlocks nothing": ([operation("a")], [permission("p", "a"), permission("q")], "permissions.q.unlocks"),
    "capital letters in a name": ([operation("a")], [permission("P", "a")], "permissions"),
    "white space in a name": ([operation("a")], [permission("p q", "a")], "permissions"),
    "two operations for one request": (
        [operation("a", path="/x/{id}"), operation("b", path="/x/{other}")],
        [permission("p", "a b")],
        "operations.b.path",
    ),
}


@pytest.mark.parametrize(("operations", "permissions", "field"), FAULTY.values(), ids=FAULTY.keys())
def test_a_faulty_catalogue_is_refused_at_its_field(
    operations: list[Operation], permissions: list[Permission], field: str
) -> None:
    with pytest.raises(BadInput) as refused:
        Catalogue.of("x", "X", "https://x.example", operations, permissions)
    assert field in {violation.field for violation in refused.value.violations}


def test_every_fault_is_named_at_once() -> None:
    with pytest.raises(BadInput) as refused:
        Catalogue.of(
            "x", "X", "https://x.example", [operation("a")], [permission("p", "b c"), permission("q", "a", "z")]
        )
    assert len(refused.value.violations) == 3


@given(catalogues())
def test_a_permission_opens_what_it_and_all_it_implies_unlock(catalogue: Catalogue) -> None:
    def reachable(name: str) -> set[str]:
        found, todo = set(), [name]
        while todo:
            one = todo.pop()
            if one not in found:
                found.add(one)
                todo.extend(catalogue.permissions[one].implies)
        return found

    for name in catalogue.permissions:
        members = reachable(name)
        assert catalogue.closure(name) == members
        assert catalogue.opened_by(name) == {op for one in members for op in catalogue.permissions[one].unlocks}


@given(catalogues(), st.sampled_from(list(AccessKind)))
def test_unlockers_are_exactly_the_permissions_that_open_it_least_first(catalogue: Catalogue, kind: AccessKind) -> None:
    for name in catalogue.operations:
        found = catalogue.unlockers(name, kind)
        assert set(found) == {
            one
            for one, item in catalogue.permissions.items()
            if kind in item.kinds and name in catalogue.opened_by(one)
        }
        sizes = [len(catalogue.opened_by(one)) for one in found]
        assert sizes == sorted(sizes)


def test_weight_is_effect_times_data_and_counts_an_operation_once() -> None:
    heavy = Operation("h", "", "POST", "/h", Effect.CONTROL, DataClass.RESTRICTED)
    light = Operation("l", "", "GET", "/l", Effect.READ, DataClass.OPEN)
    catalogue = Catalogue.of(
        "x", "X", "https://x.example", [heavy, light], [Permission("p", "", BOTH, frozenset({"h", "l"}))]
    )
    assert weigh(catalogue, ["h"]) == 72
    assert weigh(catalogue, ["l"]) == 1
    assert weigh(catalogue, ["h", "l", "h"]) == 73


def test_the_scenario_has_a_bigger_permission_for_every_smaller_one() -> None:
    """The demo must have something to choose between: an operation that several permissions unlock."""
    assert all(any(len(one.unlockers(name)) > 1 for name in one.operations) for one in RESOURCES)
