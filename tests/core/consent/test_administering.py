"""What administrators bring and decide: pasted lists, files, descriptions, groups, inheritance, requests, policy."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.access import Holding, RoleHolding, possible
from jamb.core.consent.asks import check_list
from jamb.core.consent.inheritance import InheritedLevel, inherited
from jamb.core.consent.requests import (
    LIFECYCLE,
    RequestEvent,
    RequestState,
    after,
    approvers_needed,
    check_answers,
    refuse_same_person,
    state_at,
)
from jamb.core.directory.groups import around, holders, refuse_cycle
from jamb.core.directory.people_list import read_people
from jamb.core.directory.policy import DirectoryPolicy, Registering, changed
from jamb.core.errors import AlreadyDecided, BadInput, SamePerson
from jamb.core.openapi import operations_of, permissions_of
from jamb.core.permissions import AccessKind, Catalogue, DataClass, Effect, Operation, Permission
from jamb.core.permissions.catalogue import PERMISSION_NAME
from jamb.core.reach import Reach
from jamb.demo.scenario import BERTHS, CREW, TIDES
from tests.core.build import BOTH, NOW, TREE, berths, catalogues, operation, permission, reaches

APPLICATION, DELEGATED = AccessKind.APPLICATION, AccessKind.DELEGATED

# A list as a manual has it; what is needed of it; what comes along anyway; what is unknown; what is unclear.
LISTS: dict[str, tuple[str, set[str], set[str], list[str], list[str]]] = {
    "names, one a line": ("berths.view\narrivals.view", {"berths.view", "arrivals.view"}, set(), [], []),
    "bullets, commas and quotes": (
        "- `berths.view`, crew.view\n• “x”",
        {"berths.view", "crew.view"},
        set(),
        ["“x”"],
        [],
    ),
    "all three where one would do": (
        "berths.view berths.assign berths.manage",
        {"berths.manage"},
        {"berths.view", "berths.assign"},
        [],
        [],
    ),
    "a heading that says the kind": (
        "Delegated permissions:\nberths.view\nApplication:\nberths.view",
        {"berths.view"},
        set(),
        [],
        [],
    ),
    "a name twice": ("berths.view\nberths.view", {"berths.view"}, set(), [], []),
    "a line with its resource": ("berths berths.view", {"berths.view"}, set(), [], []),
    "a name of another resource": ("tides berths.view", set(), set(), ["berths.view"], []),
    "nothing": ("\n \n", set(), set(), [], []),
}


@pytest.mark.parametrize(("text", "needed", "redundant", "unknown", "unclear"), LISTS.values(), ids=LISTS.keys())
def test_a_pasted_list_is_understood(
    text: str, needed: set[str], redundant: set[str], unknown: list[str], unclear: list[str]
) -> None:
    found = check_list(text, [BERTHS, CREW, TIDES], APPLICATION, {}, {})
    assert {one.permission for one in found.asks if one.needed} == needed
    assert {one.permission for one in found.asks if one.implied_by} == redundant
    assert (list(found.unknown), [name for name, _ in found.unclear]) == (unknown, unclear)


def test_a_list_is_seen_beside_what_is_asked_and_held() -> None:
    asked = {("berths", APPLICATION): frozenset({"arrivals.view"})}
    held = {("berths", APPLICATION): frozenset({"berths.assign"})}
    found = {
        one.permission: one
        for one in check_list("arrivals.view\nberths.view\nberths.manage", [BERTHS], APPLICATION, asked, held).asks
    }
    assert found["arrivals.view"].asked
    assert found["berths.view"].implied_by == "berths.assign"
    assert found["berths.manage"].control == ("berth.close",)


def test_a_name_that_two_resources_have_is_unclear_until_the_line_says_which() -> None:
    other = Catalogue.of(
        "locks", "Locks", "https://locks.example", BERTHS.operations.values(), BERTHS.permissions.values()
    )
    found = check_list("berths.view", [BERTHS, other], APPLICATION, {}, {})
    assert [name for name, _ in found.unclear] == ["berths.view"]
    assert not check_list("locks berths.view", [BERTHS, other], APPLICATION, {}, {}).unclear


@given(catalogues(), st.data())
def test_handing_on_never_gives_more_than_the_maker_has(catalogue: Catalogue, data: st.DataObject) -> None:
    bundles = st.frozensets(st.sampled_from(sorted(catalogue.permissions)), max_size=3)
    roles = data.draw(st.lists(st.builds(RoleHolding, st.just("r"), bundles, reaches), max_size=3))
    level, bound = data.draw(st.sampled_from(list(InheritedLevel))), data.draw(reaches)
    given_on = inherited(catalogue, roles, level, bound, TREE)
    mine = possible(catalogue, [Holding(name, role.reach) for role in roles for name in role.permissions], TREE)
    for name, covered in possible(catalogue, given_on, TREE).items():
        assert name in mine
        assert covered <= mine[name]
        effect = catalogue.operations[name].effect
        assert level is not InheritedLevel.NOTHING
        assert level is not InheritedLevel.READ or effect is Effect.READ
        assert level is not InheritedLevel.READ_AND_WRITE or effect is not Effect.CONTROL
    assert all(APPLICATION in catalogue.permissions[one.permission].kinds for one in given_on)


def test_all_of_a_role_is_handed_on_in_its_fewest_permissions() -> None:
    roles = [
        RoleHolding("chief", frozenset({"manage", "arrivals"})),
        RoleHolding("hand", frozenset({"assign"}), Reach.only("north")),
    ]
    found = inherited(berths(), roles, InheritedLevel.ALL, Reach(), TREE)
    assert {(one.permission, one.reach.words) for one in found} == {
        ("manage", "everywhere"),
        ("arrivals", "everywhere"),
    }


OPENAPI: dict[str, Any] = {
    "openapi": "3.1.0",
    "paths": {
        "/berths": {"get": {"operationId": "listBerths", "summary": "List berths"}, "parameters": []},
        "/berths/{berth}": {"delete": {"operationId": "remove_berth"}, "put": {}},
    },
}


def test_operations_come_from_an_openapi_document() -> None:
    found = {one.name: one for one in operations_of(OPENAPI, DataClass.PERSONAL)}
    assert set(found) == {"list-berths", "remove-berth", "put-berths-berth"}
    assert found["list-berths"] == Operation(
        "list-berths", "List berths", "GET", "/berths", Effect.READ, DataClass.PERSONAL
    )
    assert found["remove-berth"].effect is Effect.CONTROL
    every = Permission("all", "All", BOTH, frozenset(found))
    assert Catalogue.of("q", "Q", "https://q.example", found.values(), [every]).opened_by("all") == set(found)


def test_permissions_are_the_scopes_of_the_document_or_one_for_each_effect() -> None:
    flow = {"tokenUrl": "/token", "scopes": {"read:berths": "See berths", "close": "Close berths"}}
    scoped = {
        "openapi": "3.1.1",
        "security": [{"port": ["read:berths"]}, {"port": ["close"]}],
        "components": {"securitySchemes": {"port": {"type": "oauth2", "flows": {"clientCredentials": flow}}}},
        "paths": {
            "/berths": {"get": {"operationId": "list"}},
            "/berths/{b}": {
                "delete": {"operationId": "close", "security": [{"port": ["close"]}]},
                "put": {"operationId": "both", "security": [{"port": ["close", "read:berths"]}]},
                "get": {"operationId": "open-to-all", "security": []},
            },
        },
    }
    operations = operations_of(scoped, DataClass.INTERNAL)
    assert permissions_of(scoped, operations) == (
        Permission("close", "Close berths", BOTH, frozenset({"list", "close"})),
        Permission("read-berths", "See berths", BOTH, frozenset({"list"})),
    )
    proposed = permissions_of(OPENAPI, operations_of(OPENAPI, DataClass.INTERNAL))
    assert {one.name: one.unlocks for one in proposed} == {
        "all.read": {"list-berths"},
        "all.write": {"put-berths-berth"},
        "all.control": {"remove-berth"},
    }


@given(st.text(max_size=120), st.text(max_size=120))
def test_whatever_a_document_calls_things_the_names_are_ours_or_it_is_refused(called: str, scope: str) -> None:
    document = {
        "openapi": "3.1.0",
        "info": {"title": called},
        "paths": {"/x": {"get": {"operationId": called, "security": [{"s": [scope]}]}}},
    }
    try:
        operations = operations_of(document, DataClass.INTERNAL)
    except BadInput:
        return
    permissions = permissions_of(document, operations)
    names = [one.name for one in operations] + [one.name for one in permissions]
    assert all(PERMISSION_NAME.match(name) for name in names)
    assert Catalogue.of("q", "Q", "https://q.example", operations, permissions)


@pytest.mark.parametrize(
    ("document", "field"),
    [
        ([], "openapi"),
        ({"openapi": "3.0.3", "paths": {"/a": {"get": {}}}}, "openapi"),
        ({"openapi": "3.1.0"}, "paths"),
        ({"openapi": "3.1.0", "paths": {"/a": []}}, "paths./a"),
        ({"openapi": "3.1.0", "paths": {"/a": {}}}, "paths"),
        (
            {"openapi": "3.1.0", "paths": {"/a": {"get": {"operationId": "x"}, "put": {"operationId": "X"}}}},
            "paths./a.put",
        ),
    ],
)
def test_a_description_that_cannot_be_read_says_where(document: Any, field: str) -> None:
    with pytest.raises(BadInput) as refused:
        operations_of(document, DataClass.OPEN)
    assert [one.field for one in refused.value.violations] == [field]


AMBIGUOUS = {
    "the same template": ("/a/{x}", "/a/{y}", True),
    "neither is the more concrete": ("/a/{x}/c", "/{z}/b/c", True),
    "one is the more concrete": ("/a/{x}", "/a/b", False),
    "another length": ("/a/{x}", "/a/{x}/b", False),
    "another word": ("/a/b", "/a/c", False),
}


@pytest.mark.parametrize(("one", "other", "refused"), AMBIGUOUS.values(), ids=AMBIGUOUS.keys())
def test_two_operations_for_one_request_are_refused(one: str, other: str, refused: bool) -> None:
    def publish() -> Catalogue:
        made = [operation("first", one), operation("second", other)]
        return Catalogue.of("x", "X", "https://x.example", made, [permission("all", "first second")])

    if not refused:
        assert publish().opened_by("all") == {"first", "second"}
        return
    with pytest.raises(BadInput, match="not sound"):
        publish()


def test_groups_reach_as_deep_as_they_lie_and_never_into_themselves() -> None:
    inner = {"port": ["office"], "office": ["watch"], "ferry": ["watch"]}
    assert holders(inner, "port") == {"port", "office", "watch"}
    assert around(inner, ["watch"]) == {"watch", "office", "port", "ferry"}
    refuse_cycle(inner, "watch", ["new"])
    for wanted in (["watch"], ["port"], ["office"]):
        with pytest.raises(BadInput, match="within itself"):
            refuse_cycle(inner, "watch", wanted)


PEOPLE_FILE = (
    '\ufefflogin,name,groups,roles\nA.Vis@port.example,Anna  Vis,watch; office,auditor\n\nb@port.example,"Bo, Jr",,\n'
)


def test_people_are_read_from_a_file() -> None:
    anna, bo = read_people(PEOPLE_FILE)
    assert (anna.login, anna.name, anna.groups, anna.roles) == (
        "a.vis@port.example",
        "Anna Vis",
        ("watch", "office"),
        ("auditor",),
    )
    assert (bo.name, bo.groups) == ("Bo, Jr", ())


@pytest.mark.parametrize(
    ("text", "field"),
    [
        ("", "csv"),
        ("login,name", "csv"),
        ("login,name,shoe\na@b.example,A,42", "csv"),
        ("login,name\nnobody,A", "line 2"),
        ("login,name\na@b.example,A\na@b.example,B", "line 3"),
        ("login,name\na@b.example,", "line 2"),
    ],
)
def test_a_file_of_people_that_cannot_be_taken_in_says_where(text: str, field: str) -> None:
    with pytest.raises(BadInput) as refused:
        read_people(text)
    assert field in {one.field for one in refused.value.violations}


def test_a_request_ends_once_and_lapses_by_itself() -> None:
    due = NOW + timedelta(days=7)
    assert state_at(RequestState.WAITING, due, due - timedelta(microseconds=1)) is RequestState.WAITING
    assert state_at(RequestState.WAITING, due, due) is RequestState.LAPSED
    assert state_at(RequestState.GRANTED, due, due) is RequestState.GRANTED
    for state in RequestState:
        for event in RequestEvent:
            if event in LIFECYCLE[state]:
                assert after(state, event) in RequestState
            else:
                with pytest.raises(AlreadyDecided):
                    after(state, event)
    assert [state for state in RequestState if LIFECYCLE[state]] == [RequestState.WAITING]


def test_heavy_consents_take_two_people_and_heavier_ones_two_approvers() -> None:
    policy = DirectoryPolicy(two_people_weight=10, two_approvers_weight=20)
    refuse_same_person(9.9, {"me"}, "me", policy)
    refuse_same_person(50, {"you"}, "me", policy)
    with pytest.raises(SamePerson):
        refuse_same_person(10, {"me", "you"}, "me", policy)
    assert [approvers_needed(weight, policy) for weight in (0, 19.9, 20)] == [1, 1, 2]


def test_a_resource_gets_its_answers_and_its_terms_accepted() -> None:
    check_answers([], [], "", accepted=False)
    check_answers(["Why?"], ["Because"], "Be good", accepted=True)
    for answers, accepted, field in (
        (["  "], True, "answers.0"),
        ([], True, "answers.0"),
        (["a", "b"], True, "answers"),
        (["a"], False, "terms_accepted"),
    ):
        with pytest.raises(BadInput) as refused:
            check_answers(["Why?"], answers, "Be good", accepted=accepted)
        assert [one.field for one in refused.value.violations] == [field]


@pytest.mark.parametrize(
    ("changes", "field"),
    [
        ({"colour": 1}, "colour"),
        ({"warn_days": 0}, "warn_days"),
        ({"warn_days": True}, "warn_days"),
        ({"secret_default_days": 200}, "secret_default_days"),
        ({"two_people_weight": 500}, "two_people_weight"),
        ({"registering": Registering.GROUPS}, "registering_groups"),
        ({"registering_groups": ("nobodies",)}, "registering_groups"),
    ],
)
def test_a_policy_outside_its_bounds_is_refused(changes: dict[str, Any], field: str) -> None:
    with pytest.raises(BadInput) as refused:
        changed(DirectoryPolicy(), changes, ["office"])
    assert [one.field for one in refused.value.violations] == [field]


def test_a_policy_changes_what_it_is_told_and_nothing_else() -> None:
    after_it = changed(
        DirectoryPolicy(), {"registering": Registering.GROUPS, "registering_groups": ("office",)}, ["office"]
    )
    assert after_it == DirectoryPolicy(registering=Registering.GROUPS, registering_groups=("office",))
