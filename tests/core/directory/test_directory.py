"""Roles, links by which people choose passwords, tries, and duties: the small rules of a directory."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import check_bundle, check_for_client, check_short_name, holds_everything
from jamb.core.directory.sign_in_links import MOST_HOURS, SignInLinkState, link_end, state_of_link
from jamb.core.errors import BadInput, TopRole, Unsuited
from jamb.core.links import KEY_BYTES, LINK_KEY, key_from, link_of
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.tries import LIMITS, SIGN_IN_ADDRESS, SIGN_IN_DEVICE, SIGN_IN_LOGIN, SIGN_IN_PAIR, sign_in_limits
from tests.core.build import NOW, berths, moments, operation, permission

# Roles


@pytest.mark.parametrize("name", ["keeper", "night-watch", "a1-b2", "x" * 60])
def test_a_short_name_is_words_joined_by_hyphens(name: str) -> None:
    check_short_name("name", name)


@pytest.mark.parametrize("name", ["", "Keeper", "-a", "a-", "a--b", "a b", "ä", "x" * 61, "a\n"])
def test_other_short_names_are_refused_with_what_is_allowed(name: str) -> None:
    with pytest.raises(BadInput) as refused:
        check_short_name("name", name)
    assert "lower-case words joined by hyphens" in refused.value.violations[0].allowed


def test_a_role_bundles_permissions_that_are_there_and_at_least_one() -> None:
    check_bundle(berths(), ["view", "assign"])
    for wrong, said in (([], "nothing"), (["view", "steer"], "steer")):
        with pytest.raises(Unsuited) as refused:
            check_bundle(berths(), wrong)
        assert said in refused.value.violations[0].sent


def test_everything_is_what_people_or_clients_can_be_given_at_a_resource() -> None:
    catalogue = berths()
    assert holds_everything(catalogue, ["manage", "arrivals"])
    assert not holds_everything(catalogue, ["manage"])
    alone = replace(catalogue.permissions["arrivals"], kinds=frozenset({AccessKind.DELEGATED}))
    people = Catalogue.of(
        "b",
        "B",
        "https://b.example",
        catalogue.operations.values(),
        [alone if name == "arrivals" else item for name, item in catalogue.permissions.items()],
    )
    assert holds_everything(people, ["manage"]), "what only people can hold is not missing from what both can"


def test_no_client_is_given_a_role_of_what_it_cannot_hold_or_of_everything() -> None:
    catalogue, policy = berths(), DirectoryPolicy()
    check_for_client(policy, catalogue, "viewer", ["view"])
    with pytest.raises(TopRole, match="keeps such roles from clients"):
        check_for_client(policy, catalogue, "all", ["manage", "arrivals"])
    check_for_client(replace(policy, top_role_for_clients=True), catalogue, "all", ["manage", "arrivals"])
    people = replace(permission("person", "list"), kinds=frozenset({AccessKind.DELEGATED}))
    mixed = Catalogue.of("b", "B", "https://b.example", [operation("list")], [people, permission("view", "list")])
    with pytest.raises(Unsuited) as refused:
        check_for_client(policy, mixed, "mixed", ["person"])
    assert refused.value.violations[0].sent == "person"


# Links


@given(moments, st.none() | moments, st.none() | moments, moments)
def test_a_link_waits_until_it_is_used_replaced_or_over_and_the_first_of_these_is_said(
    expires: object, used: object, replaced: object, now: object
) -> None:
    state = state_of_link(expires, used, replaced, now)  # type: ignore[arg-type]
    if used is not None:
        assert state is SignInLinkState.USED
    elif replaced is not None:
        assert state is SignInLinkState.REPLACED
    else:
        assert (state is SignInLinkState.WAITING) == (now < expires)  # type: ignore[operator]


def test_a_link_lives_for_hours_and_not_for_weeks() -> None:
    assert link_end(NOW, 24) == NOW + timedelta(days=1)
    for hours in (0, -1, MOST_HOURS + 1):
        with pytest.raises(BadInput):
            link_end(NOW, hours)


@given(st.binary(min_size=KEY_BYTES, max_size=KEY_BYTES))
def test_the_key_of_a_link_stands_behind_its_hash_and_is_read_back(key: bytes) -> None:
    link = link_of("https://jamb.example", "sign-in-link", "an-id", key)
    address, _, text = link.partition("#")
    assert address == "https://jamb.example/sign-in-link/an-id"
    assert LINK_KEY.match(text)
    assert key_from(text) == key


@given(st.text(max_size=60))
def test_what_is_no_key_of_a_link_is_none(text: str) -> None:
    found = key_from(text)
    assert found is None or len(found) == KEY_BYTES


# Tries


def test_a_known_device_is_counted_for_itself_and_others_by_address_pair_and_login() -> None:
    known = sign_in_limits("ada@x.example", "192.0.2.1", "d1")
    assert [one.limit for one in known] == [SIGN_IN_DEVICE]
    others = sign_in_limits("ada@x.example", "192.0.2.1", None)
    assert [one.limit for one in others] == [SIGN_IN_ADDRESS, SIGN_IN_PAIR, SIGN_IN_LOGIN]
    assert others[1].parts == ("ada@x.example", "192.0.2.1")
    assert all(one.limit in LIMITS for one in (*known, *others)), "each limit is one of those that are documented"
    assert SIGN_IN_LOGIN.most <= 100, "NIST SP 800-63B section 5.2.2"
