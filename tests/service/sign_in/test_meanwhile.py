"""Who signs in, or allows something, while their sign-ins are ended, has nothing of it afterwards."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable
from contextlib import closing
from functools import partial

import httpx
import pytest

from jamb.client import DeviceSignIn
from jamb.core.directory.second_factor import STEP_SECONDS, code_of
from tests.service.entry.roster import BACK, Roster, answered, by_hand, made, members, redeemed
from tests.service.meeting import met
from tests.world import World, add_person, choose_password, unique

PASSWORD = "a password that somebody else found"
SESSION = "select from console_session where person_id = (select id from person where login = %s) for key share"


class Person:
    """Somebody new, whose password somebody else may know."""

    def __init__(self, world: World) -> None:
        self.world, self.login = world, f"{unique('noor').replace(' ', '-')}@quillhaven.example"
        with world.jamb() as steward:
            add_person(steward, self.login, "Noor", PASSWORD)

    def signed_in(self) -> httpx.Client:
        http = httpx.Client(base_url=self.world.base_url, timeout=120)
        answer = http.post("/api/v1/session", json={"login": self.login, "password": PASSWORD})
        if answer.is_success:
            http.headers["X-Jamb-CSRF"] = answer.json()["csrf"]
        return http

    def chooses_another(self) -> Callable[[], None]:
        with self.world.jamb() as steward:
            link = steward.people.link(self.login).link
        return lambda: choose_password(link, "one that nobody else knows")

    def is_made_inactive(self) -> Callable[[], None]:
        def change() -> None:
            with self.world.jamb() as steward:
                steward.people.change(self.login, active=False)

        return change


def is_in(http: httpx.Client) -> bool:
    return http.get("/api/v1/session").is_success


@pytest.fixture
def person(world: World) -> Person:
    return Person(world)


@pytest.fixture
def roster(world: World) -> Roster:
    return made(world, "web", [BACK], [])


@pytest.mark.parametrize("act", [Person.chooses_another, Person.is_made_inactive], ids=lambda one: one.__name__)
def test_a_sign_in_ends_with_those_of_before(
    world: World, person: Person, act: Callable[[Person], Callable[[], None]]
) -> None:
    with closing(met(world, act(person), person.signed_in)) as http:
        assert not is_in(http)
        if act is Person.is_made_inactive:
            with world.jamb() as steward:
                steward.people.change(person.login, active=True)
            assert not is_in(http), "nor when they may act again"
    with closing(person.signed_in()) as http:
        assert is_in(http) is (act is Person.is_made_inactive)


def test_what_is_allowed_ends_with_a_new_password(world: World, person: Person, roster: Roster) -> None:
    address, verifier = by_hand(roster, scope="openid offline_access")
    device = DeviceSignIn.start(world.base_url, "quillhaven")
    with closing(person.signed_in()) as http:

        def allows() -> httpx.Response | str:
            try:
                return answered(http, address)
            except httpx.HTTPStatusError as error:
                return error.response

        def lets_in() -> httpx.Response:
            body = {"user_code": device.user_code, "approve": True}
            return http.post("/api/v1/devices/decision", json=body)

        for comes in (allows, lets_in):
            assert is_in(http)
            done = met(world, person.chooses_another(), comes)
            if isinstance(done, str):
                tokens = redeemed(roster, members(done)["code"], verifier)
                assert tokens.json().get("error") == "invalid_grant"
            else:
                assert done.status_code == 401, done.text
            with world.jamb() as steward:
                choose_password(steward.people.link(person.login).link, PASSWORD)
            body = {"login": person.login, "password": PASSWORD}
            http.headers["X-Jamb-CSRF"] = http.post("/api/v1/session", json=body).raise_for_status().json()["csrf"]


def test_how_one_signs_in_is_changed_by_no_sign_in_that_is_ended(world: World, person: Person) -> None:
    """Who found the old password does not stay by choosing one, nor by a device of theirs."""
    chosen = {"current": PASSWORD, "password": "what a thief chose for good"}
    for path in ("/api/v1/session/password", "/api/v1/session/second-factor"):
        with closing(person.signed_in()) as thief:
            body = chosen
            if path.endswith("factor"):
                key = thief.post(path).raise_for_status().json()["key"].replace(" ", "")
                body = {"code": code_of(base64.b32decode(key), int(time.time()) // STEP_SECONDS)}
            answer = met(world, person.chooses_another(), partial(thief.put, path, json=body))
            assert answer.status_code in {401, 403}, answer.text
            assert not is_in(thief)
        with world.jamb() as steward:
            assert [one.second_factor for one in steward.people.list(q=person.login)] == [False]
            choose_password(steward.people.link(person.login).link, PASSWORD)


def test_what_is_allowed_ends_with_the_sign_in_that_is_signed_out(world: World, person: Person, roster: Roster) -> None:
    address, verifier = by_hand(roster, scope="openid")
    with closing(person.signed_in()) as http, httpx.Client(base_url=world.base_url, timeout=120) as again:
        # The same browser, in another of its windows.
        again.cookies, again.headers = http.cookies, http.headers

        def signs_out() -> None:
            again.delete("/api/v1/session").raise_for_status()

        led = met(world, signs_out, lambda: answered(http, address), SESSION, person.login)
        tokens = redeemed(roster, members(led)["code"], verifier)
        assert tokens.json().get("error") == "invalid_grant"
        assert not is_in(http)
