"""Signing in with a second factor: set up, wanted, lost; and every way round it."""

from __future__ import annotations

import base64
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from typing import Any

import httpx
import jwt
import pytest

from jamb.core.directory.second_factor import STEP_SECONDS, code_of
from tests.service.entry.roster import Roster, answered, by_hand, members, redeemed
from tests.world import World, add_person, choose_password, unique

PASSWORD = "a password of their own"


Browser = Callable[[], httpx.Client]


@pytest.fixture
def browser(world: World) -> Iterator[Browser]:
    """Browsers, each with cookies of its own."""
    with ExitStack() as stack:
        yield lambda: stack.enter_context(httpx.Client(base_url=world.base_url, timeout=60))


class Person:
    """Somebody of a directory of the test's own, with a device that makes codes."""

    def __init__(self, browser: Browser, login: str, password: str = PASSWORD) -> None:
        self.login, self.password = login, password
        self.secret = b""
        self.http = browser()

    def sign_in(self, code: str = "", http: httpx.Client | None = None) -> httpx.Response:
        used = http or self.http
        body = {"login": self.login, "password": self.password, "code": code}
        answer = used.post("/api/v1/session", json=body)
        if answer.is_success:
            used.headers["X-Jamb-CSRF"] = answer.json()["csrf"]
        return answer

    def code(self, ahead: int = 0) -> str:
        return code_of(self.secret, int(time.time()) // STEP_SECONDS + ahead)

    def set_up(self) -> list[str]:
        key = self.http.post("/api/v1/session/second-factor").raise_for_status().json()
        self.secret = base64.b32decode(key["key"].replace(" ", ""))
        done = self.http.put("/api/v1/session/second-factor", json={"code": self.code(-1)}).raise_for_status()
        codes: list[str] = done.json()["codes"]
        return codes


@pytest.fixture(scope="module")
def ground(world: World) -> str:
    world.open_directory("factored")
    return "factored"


@pytest.fixture
def person(world: World, ground: str, browser: Browser) -> Person:
    login = f"{unique('ada').replace(' ', '-')}@{ground}.example"
    with world.jamb("steward", ground) as steward:
        add_person(steward, login, "Ada", PASSWORD)
    made = Person(browser, login)
    made.sign_in().raise_for_status()
    return made


def problem(answer: httpx.Response) -> tuple[int, str]:
    found: dict[str, Any] = answer.json()
    return answer.status_code, found["type"].removeprefix("urn:jamb:problem:")


def test_a_device_is_set_up_and_wanted_from_then_on(
    world: World, person: Person, ground: str, browser: Browser
) -> None:
    elsewhere = browser()
    assert person.sign_in(http=elsewhere).status_code == 200
    held = person.http.get("/api/v1/session/second-factor").json()
    assert {name: held[name] for name in ("set_up", "recovery_codes", "wanted", "passkeys")} == {
        "set_up": False,
        "recovery_codes": 0,
        "wanted": False,
        "passkeys": [],
    }
    wrong = person.http.put("/api/v1/session/second-factor", json={"code": "000000"})
    assert wrong.status_code == 403, "nothing was begun"
    codes = person.set_up()
    assert len(set(codes)) == 10
    assert person.http.get("/api/v1/session").status_code == 200
    assert elsewhere.get("/api/v1/session").status_code == 401, "it signed in without"
    assert problem(person.sign_in(http=elsewhere)) == (409, "code-wanted")
    assert problem(person.sign_in("123", elsewhere)) == (401, "not-signed-in")
    right = person.code()
    assert person.sign_in(right, elsewhere).status_code == 200
    again = browser()
    assert problem(person.sign_in(right, again)) == (401, "not-signed-in"), "each counts once"
    assert person.sign_in(codes[0].upper(), again).status_code == 200
    assert problem(person.sign_in(codes[0], browser())) == (401, "not-signed-in")
    assert again.get("/api/v1/session/second-factor").json()["recovery_codes"] == 9
    with world.database() as database:
        kept = database.execute("select to_jsonb(second_factor)::text from second_factor").fetchall()
        assert all(base64.b32encode(person.secret).decode() not in row[0] for row in kept)
        assert all(person.secret.hex() not in row[0] for row in kept), "it is sealed"
    with world.jamb("steward", ground) as steward:
        said = " ".join(str(one.after) for one in steward.ledger.list())
        assert "'second factor': 'set up'" in said
        assert codes[1] not in said


def test_codes_are_not_guessed_and_a_try_without_one_pays_for_none(person: Person, browser: Browser) -> None:
    """A request without a code is answered 409 though the password is right: it must take no wrong try off."""
    person.set_up()
    stranger = browser()
    answers = [person.sign_in("" if number % 2 else "000000", stranger).status_code for number in range(12)]
    assert 429 in answers[:8]
    assert answers[-1] == 429


def test_who_lost_the_device_gets_other_codes_or_is_helped_by_a_steward(
    world: World, person: Person, ground: str
) -> None:
    codes = person.set_up()
    fresh = person.http.post("/api/v1/session/second-factor/recovery-codes", json={"code": codes[0]})
    assert len(set(fresh.raise_for_status().json()["codes"]) - set(codes)) == 10
    assert person.http.post("/api/v1/session/second-factor/removal", json={"code": codes[1]}).status_code == 403
    with world.jamb("steward", ground) as steward:
        (listed,) = [one for one in steward.people.list() if one.login == person.login]
        assert listed.second_factor is True
        steward.people.change(person.login, no_second_factor=True)
        assert next(iter(steward.ledger.list())).after == {"second factor": "taken off"}
    assert person.http.get("/api/v1/session").status_code == 401, "whoever found the device is out"
    assert person.sign_in().status_code == 200
    more = person.set_up()
    assert person.http.post("/api/v1/session/second-factor/removal", json={"code": more[0]}).status_code == 204
    assert person.sign_in().status_code == 200


def test_the_policy_wants_one_of_whoever_has_a_role_before_anything_else(world: World, browser: Browser) -> None:
    ground = "factor-wanted"
    world.open_directory(ground)
    held = world.person("steward", ground)
    steward = Person(browser, held["login"], held["password"])
    steward.sign_in().raise_for_status()
    here = f"/api/v1/directories/{ground}"
    body = {"second_factor": True}
    assert steward.http.put(f"{here}/policy", json=body).status_code == 200
    assert problem(steward.http.get(f"{here}/clients")) == (403, "second-factor-wanted")
    assert steward.http.get("/api/v1/session").json()["factor_due"] is True
    device = {"user_code": "AAAA-AAAA", "approve": True}
    assert problem(steward.http.post("/api/v1/devices/decision", json=device))[1] == "second-factor-wanted"
    steward.set_up()
    assert steward.http.get(f"{here}/clients").status_code == 200
    assert steward.http.get("/api/v1/session").json()["factor_due"] is False
    none = steward.http.post("/api/v1/session/second-factor/removal", json={"code": steward.code()})
    assert none.status_code == 403
    # Nobody here could help the only steward who lost it: whoever runs the service can.
    told = world.operate("directories", "steward", ground, "--steward", held["login"])
    choose_password(told.split()[-1], held["password"])
    assert steward.sign_in().status_code == 200
    steward.set_up()


def test_an_application_learns_how_its_person_signed_in(world: World, roster: Roster, browser: Browser) -> None:
    login = f"{unique('eve').replace(' ', '-')}@quillhaven.example"
    with world.jamb() as steward:
        add_person(steward, login, "Eve", PASSWORD)
    eve = Person(browser, login)
    eve.sign_in().raise_for_status()
    for methods in (["pwd"], ["pwd", "otp", "mfa"]):
        address, verifier = by_hand(roster, scope="openid")
        token = redeemed(roster, members(answered(eve.http, address))["code"], verifier).raise_for_status().json()
        assert jwt.decode(token["id_token"], options={"verify_signature": False})["amr"] == methods
        if methods == ["pwd"]:
            eve.set_up()
