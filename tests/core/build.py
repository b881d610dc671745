"""Builders and strategies for the core's tests."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta

from hypothesis import strategies as st

from jamb.core.access import ClientStanding, HeldAsk, HeldGrant, ObjectFacts, PersonStanding, RoleHolding
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.reach import EVERYWHERE, Collection, CollectionTree, Reach, ReachKind

BOTH = frozenset(AccessKind)
NOW = datetime(2026, 11, 23, 12, 0, tzinfo=UTC)


def operation(
    name: str, path: str = "", effect: Effect = Effect.READ, data_class: DataClass = DataClass.INTERNAL
) -> Operation:
    return Operation(name, name.title(), "GET", path or f"/{name}", effect, data_class)


def permission(name: str, unlocks: str = "", implies: str = "") -> Permission:
    return Permission(name, name.title(), BOTH, frozenset(unlocks.split()), frozenset(implies.split()))


def berths() -> Catalogue:
    """A small catalogue with a chain of implication: manage → assign → view."""
    return Catalogue.of(
        "berths",
        "Berths",
        "https://berths.example",
        [
            operation("list"),
            operation("assign", effect=Effect.WRITE),
            operation("close", effect=Effect.CONTROL),
            operation("arrivals"),
        ],
        [
            permission("view", "list"),
            permission("assign", "assign", "view"),
            permission("manage", "close", "assign"),
            permission("arrivals", "arrivals"),
        ],
    )


@st.composite
def catalogues(draw: st.DrawFn) -> Catalogue:
    """Sound catalogues: permission i implies only permissions before it, so there is never a cycle."""
    operations = [f"op{number}" for number in range(draw(st.integers(1, 8)))]
    permissions: list[Permission] = []
    for number in range(draw(st.integers(1, 6))):
        unlocks = draw(st.sets(st.sampled_from(operations), min_size=1, max_size=4))
        implies = (
            draw(st.sets(st.sampled_from([one.name for one in permissions]), max_size=3)) if permissions else set()
        )
        kinds = draw(st.sampled_from([BOTH, frozenset({AccessKind.APPLICATION}), frozenset({AccessKind.DELEGATED})]))
        permissions.append(Permission(f"p{number}", "", kinds, frozenset(unlocks), frozenset(implies)))
    made = [
        Operation(
            name,
            "",
            "GET",
            f"/{name}" + ("/{thing}" if draw(st.booleans()) else ""),
            draw(st.sampled_from(list(Effect))),
            draw(st.sampled_from(list(DataClass))),
        )
        for name in operations
    ]
    return Catalogue.of("x", "X", "https://x.example", made, permissions, "thing")


# Four places, one within another; "adrift" lies in none.
TREE = CollectionTree.of(
    [
        Collection("north", "North", frozenset({"n1", "n2"})),
        Collection("north/inner", "Inner", frozenset({"i1", "both"})),
        Collection("south", "South", frozenset({"s1", "both"})),
        Collection("empty", "Empty"),
    ]
)
PATHS = sorted(TREE.collections)
reaches = st.one_of(
    st.just(EVERYWHERE),
    st.builds(
        Reach, st.sampled_from([ReachKind.ONLY, ReachKind.ALL_BUT]), st.frozensets(st.sampled_from(PATHS), min_size=1)
    ),
)
objects = st.sampled_from([*sorted(TREE.everything), "adrift"]).map(lambda name: ObjectFacts(name, TREE.where(name)))


moments = st.integers(-48, 48).map(lambda hours: NOW + timedelta(hours=hours))


@st.composite
def standings(draw: st.DrawFn, catalogue: Catalogue) -> ClientStanding:
    names = st.sampled_from(sorted(catalogue.permissions))
    kinds = st.sampled_from(list(AccessKind))
    persons = st.sampled_from([None, None, "p", "other"])
    grants = st.builds(HeldGrant, names, kinds, moments, st.none() | moments, reaches, persons)
    asks = st.builds(HeldAsk, names, kinds, moments)
    return ClientStanding(
        "c",
        "Client",
        draw(st.booleans()),
        tuple(draw(st.lists(asks, max_size=4))),
        tuple(draw(st.lists(grants, max_size=5))),
        draw(st.sampled_from([True, False, None])),
        draw(st.none() | moments),
    )


@st.composite
def people(draw: st.DrawFn, catalogue: Catalogue) -> PersonStanding:
    bundles = st.sets(st.sampled_from(sorted(catalogue.permissions)), max_size=3)
    roles = tuple(
        RoleHolding(f"role{number}", frozenset(draw(bundles)), draw(reaches))
        for number in range(draw(st.integers(0, 2)))
    )
    return PersonStanding("p", "Person", draw(st.booleans()), roles)
