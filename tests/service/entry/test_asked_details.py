"""A client asks for permissions in some collections alone (RFC 9396), and gets no more; a person allows no more."""

from __future__ import annotations

import json
from typing import Any

import httpx
import jwt
import pytest

from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.wire.resources.reach import ReachSent
from tests import patient
from tests.service.entry.roster import (
    BACK,
    Roster,
    answered,
    asked_of,
    by_hand,
    made,
    members,
    redeemed,
    refreshed,
    somebody,
)
from tests.world import BERTHS, World

NORTH, FUEL = "north", "fuel"


def detail(*names: str, **more: Any) -> dict[str, Any]:
    return {"type": "urn:jamb:reach", "privileges": list(names), **more}


def asked_with(*details: dict[str, Any]) -> str:
    return json.dumps(list(details))


def claims_of(token: str) -> dict[str, Any]:
    found: dict[str, Any] = jwt.decode(token, options={"verify_signature": False})
    return found


def reached(claims: dict[str, Any]) -> dict[str, list[str]]:
    """Where each permission of a token counts; what counts everywhere is left out."""
    found: dict[str, list[str]] = {}
    for entry in claims.get("authorization_details", ()):
        for name in entry["privileges"]:
            found.setdefault(name, []).extend(entry.get("only", ["?"]))
    return found


@pytest.fixture
def page(world: World) -> Roster:
    return made(world, "web", [BACK], ["berths.view"], granted=False)


def test_a_person_allows_what_is_asked_there_and_is_asked_anew_for_more(world: World, page: Roster) -> None:
    with somebody(world) as http:
        north = asked_with(detail("berths.view", only=[NORTH], locations=[BERTHS]))
        address, verifier = by_hand(page, scope="openid offline_access", authorization_details=north)
        (shown,) = asked_of(http, address)["to_allow"]
        assert (shown["permission"], shown["where"]) == ("berths.view", "only North quay")
        token = redeemed(page, members(answered(http, address))["code"], verifier).raise_for_status().json()
        claims = claims_of(token["access_token"])
        assert reached(claims) == {"berths.view": [NORTH]}
        assert token["authorization_details"] == claims["authorization_details"]
        assert world.call_berths(token["access_token"], "/berths/north-11").status_code == 200
        assert world.call_berths(token["access_token"], "/berths/fuel-1").status_code == 403
        # By both ways of refreshing, and for less.
        for _ in "ab":
            fresh = refreshed(page, token["refresh_token"]).raise_for_status().json()
            assert reached(claims_of(fresh["access_token"])) == {"berths.view": [NORTH]}
        # The same again needs no answer; elsewhere, or everywhere, does.
        assert asked_of(http, address)["to_allow"] == []
        for wider in (
            {"authorization_details": asked_with(detail("berths.view", only=[FUEL]))},
            {"authorization_details": asked_with(detail("berths.view"))},
            {"scope": "openid offline_access berths.view"},
        ):
            more, _ = by_hand(page, **{"scope": "openid offline_access", **wider})
            assert [one["permission"] for one in asked_of(http, more)["to_allow"]] == ["berths.view"]
        fuel = asked_with(detail("berths.view", only=[FUEL]))
        address, verifier = by_hand(page, scope="openid", authorization_details=fuel)
        both = redeemed(page, members(answered(http, address))["code"], verifier).raise_for_status().json()
        assert reached(claims_of(both["access_token"])) == {"berths.view": [FUEL]}
        # What was refreshed before stays as it was asked for then.
        fresh = refreshed(page, fresh["refresh_token"]).raise_for_status().json()
        assert reached(claims_of(fresh["access_token"])) == {"berths.view": [NORTH]}
        # Once they allowed it everywhere, nothing is left to ask, wherever it is asked.
        everywhere, _ = by_hand(page, scope="openid berths.view")
        members(answered(http, everywhere))
        for again in (
            everywhere,
            by_hand(page, scope="openid", authorization_details=asked_with(detail("berths.view")))[0],
        ):
            assert asked_of(http, again)["to_allow"] == []
    with world.jamb() as steward:
        entries = [one.after for one in steward.ledger.list(client=page.id) if one.action == "consent.granted"]
    assert ["only North quay" in str(entry) for entry in entries].count(True) == 1


def test_what_an_administrator_narrowed_the_person_does_not_widen(world: World, page: Roster) -> None:
    with somebody(world) as http, world.jamb() as steward:
        two = asked_with(detail("berths.view", only=[NORTH, FUEL]))
        address, verifier = by_hand(page, scope="openid", authorization_details=two)
        redeemed(page, members(answered(http, address))["code"], verifier).raise_for_status()
        login = world.person("oskar")["login"]
        narrower = ReachSent(kind=ReachKind.ONLY, collections=[FUEL])
        steward.consent.change_reach(
            page.id, "berths", ["berths.view"], narrower, kind=AccessKind.DELEGATED, person=login
        )
        assert asked_of(http, address)["to_allow"] == []
        token = redeemed(page, members(answered(http, address))["code"], verifier)
        assert token.status_code == 200, token.text
        assert reached(claims_of(token.json()["access_token"])) == {"berths.view": [FUEL]}


@pytest.mark.parametrize(
    "details",
    [
        "nothing",
        "{}",
        "[]",
        "[1]",
        '[{"type": "elsewhere", "privileges": ["berths.view"]}]',
        asked_with({"type": "urn:jamb:reach"}),
        asked_with(detail("berths.view", only=[NORTH], all_but=[FUEL])),
        asked_with(detail("berths.view", only=["atlantis"])),
        asked_with(detail("berths.view", only=[])),
        asked_with(detail("berths.view", actions=["read"])),
        asked_with(detail("berths.view", locations=[BERTHS, "https://tides.quillhaven.example"])),
        asked_with(*[detail("berths.view")] * 11),
        json.dumps([detail("x" * 5000)]),
        "[" * 2000,
    ],
)
def test_details_that_are_none_are_refused_as_such(page: Roster, details: str) -> None:
    address, _ = by_hand(page, scope="openid", resource=BERTHS, authorization_details=details)
    sent = httpx.get(address, follow_redirects=False, timeout=60)
    answer = members(sent.headers["location"])
    assert answer["error"] == "invalid_authorization_details", sent.headers["location"]
    assert len(answer["error_description"]) > 20


def test_details_of_another_resource_than_is_named_are_refused(page: Roster) -> None:
    sent = asked_with(detail("berths.view", locations=[BERTHS]))
    address, _ = by_hand(page, scope="openid", resource="https://tides.quillhaven.example", authorization_details=sent)
    answer = members(httpx.get(address, follow_redirects=False, timeout=60).headers["location"])
    assert answer["error"] == "invalid_target"


def test_a_client_as_itself_asks_for_a_token_of_less(world: World) -> None:
    made_one = world.client(granted=["berths.assign"])

    def token(**more: str) -> httpx.Response:
        return world.ask_token(made_one, resource=BERTHS, **more)

    whole = token().raise_for_status().json()
    assert "authorization_details" not in whole
    less = token(authorization_details=asked_with(detail("berths.assign", only=[NORTH]))).raise_for_status().json()
    assert less["scope"].split() == ["berths.assign", "berths.view"]
    assert reached(claims_of(less["access_token"])) == {"berths.assign": [NORTH], "berths.view": [NORTH]}
    assert less["authorization_details"] == claims_of(less["access_token"])["authorization_details"]
    assert world.call_berths(less["access_token"], "/berths/fuel-1").status_code == 403
    assert world.call_berths(less["access_token"], "/berths/north-11").status_code == 200
    mixed = token(
        authorization_details=asked_with(detail("berths.view", only=[NORTH]), detail("berths.assign", only=[FUEL]))
    ).json()
    assert reached(claims_of(mixed["access_token"]))["berths.assign"] == [FUEL]
    for wrong, error in (
        (asked_with(detail("berths.manage")), "invalid_authorization_details"),
        (asked_with(detail("berths.view", only=["atlantis"])), "invalid_authorization_details"),
        (asked_with(detail("berths.view", locations=["https://tides.quillhaven.example"])), "invalid_target"),
    ):
        refused = token(authorization_details=wrong)
        assert (refused.status_code, refused.json()["error"]) == (400, error)


def test_metadata_names_the_type(world: World) -> None:
    found = patient.get(f"{world.base_url}/d/quillhaven/.well-known/openid-configuration").json()
    assert found["authorization_details_types_supported"] == ["urn:jamb:reach"]
