"""Passkeys: made, signed in with, wanted, confirmed by, taken off; and every way round them."""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from dataclasses import replace
from typing import Any

import httpx
import jwt
import pytest

from tests.service.entry.roster import by_hand, made, members, redeemed
from tests.service.meeting import met
from tests.service.sign_in.authenticator import Device
from tests.world import World, add_person, choose_password, unique

PASSWORD = "a password of their own"
Browser = Callable[[], httpx.Client]


@pytest.fixture
def browser(world: World) -> Iterator[Browser]:
    """Browsers, each with cookies of its own, at the name to which passkeys belong."""
    with ExitStack() as stack:
        address = f"http://localhost:{world.port}"
        yield lambda: stack.enter_context(httpx.Client(base_url=address, timeout=60))


class Person:
    def __init__(self, browser: Browser, world: World, login: str) -> None:
        self.login, self.http, self.browser = login, browser(), browser
        self.device = Device(f"http://localhost:{world.port}")

    def sign_in(self, code: str = "", http: httpx.Client | None = None) -> httpx.Response:
        body = {"login": self.login, "password": PASSWORD, "code": code}
        return entered(http or self.http, "/api/v1/session", body)

    def add(self, device: Device | None = None, name: str = "Laptop") -> httpx.Response:
        options = self.http.post("/api/v1/session/passkeys/options").raise_for_status().json()["options"]
        credential = (device or self.device).made(options)
        return self.http.post("/api/v1/session/passkeys", json={"name": name, "credential": credential})

    def show(self, http: httpx.Client, device: Device | None = None, **said: str) -> httpx.Response:
        credential = (device or self.device).shown(options_of(http), **said)
        return entered(http, "/api/v1/session/passkey", {"credential": credential})


def options_of(http: httpx.Client) -> dict[str, Any]:
    found: dict[str, Any] = http.post("/api/v1/session/passkey/options").raise_for_status().json()["options"]
    return found


def entered(http: httpx.Client, path: str, body: dict[str, Any]) -> httpx.Response:
    answer = http.post(path, json=body)
    if answer.is_success:
        http.headers["X-Jamb-CSRF"] = answer.json()["csrf"]
    return answer


def problem(answer: httpx.Response) -> tuple[int, str]:
    found: dict[str, Any] = answer.json()
    return answer.status_code, found["type"].removeprefix("urn:jamb:problem:")


def signed_in_earlier(world: World, login: str) -> None:
    """Let an hour go by since somebody last showed that it is they."""
    with world.database() as connection:
        connection.execute(
            "UPDATE console_session held SET created_at = held.created_at - interval '1 hour',"
            " confirmed_at = held.confirmed_at - interval '1 hour' FROM person"
            " WHERE person.id = held.person_id AND person.login = %s",
            (login,),
        )


@pytest.fixture(scope="module")
def ground(world: World) -> str:
    world.open_directory("keyed")
    return "keyed"


@pytest.fixture
def person(world: World, ground: str, browser: Browser) -> Person:
    login = f"{unique('ada').replace(' ', '-')}@{ground}.example"
    with world.jamb("steward", ground) as steward:
        add_person(steward, login, "Ada", PASSWORD)
    found = Person(browser, world, login)
    found.sign_in().raise_for_status()
    return found


def test_a_passkey_signs_in_without_a_password_and_is_a_second_factor(person: Person, browser: Browser) -> None:
    other = browser()
    person.sign_in(http=other).raise_for_status()
    added = person.add()
    assert added.status_code == 201, added.text
    codes = added.json()["codes"]
    assert len(set(codes)) == 10
    # What was signed in without it has ended; who added it goes on.
    assert other.get("/api/v1/session").status_code == 401
    assert person.http.get("/api/v1/session").status_code == 200
    fresh = browser()
    assert person.show(fresh).status_code == 200
    assert fresh.get("/api/v1/session").json()["person"]["login"] == person.login
    held = fresh.get("/api/v1/session/second-factor").json()
    assert [one["name"] for one in held["passkeys"]] == ["Laptop"]
    assert held["passkeys"][0]["last_used_at"]
    # The password alone opens nothing any more; a recovery code stands for a lost device, once.
    assert problem(person.sign_in(http=browser())) == (409, "code-wanted")
    assert person.sign_in(codes[0], browser()).status_code == 200
    assert person.sign_in(codes[0], browser()).status_code == 401
    # A second one brings no other codes.
    assert person.add(Device(person.device.origin), "Phone").json()["codes"] == []


@pytest.mark.parametrize(
    "wrong",
    [
        {"origin": "https://elsewhere.example"},
        {"origin": "http://localhost:1"},
        {"host": "elsewhere.example"},
        {"verified": False},
        {"id": b"another id of the same length 32"},
    ],
    ids=lambda wrong: next(iter(wrong)),
)
def test_what_another_page_or_device_shows_opens_nothing(
    person: Person, browser: Browser, wrong: dict[str, Any]
) -> None:
    person.add().raise_for_status()
    # A page elsewhere, a device that asked nobody, a passkey that nobody has: all are told the same.
    refused = person.show(browser(), replace(person.device, **wrong))
    assert problem(refused) == (401, "not-signed-in")
    stranger = Device(person.device.origin, id=person.device.id, person=person.device.person)
    assert person.show(browser(), stranger).json()["detail"] == refused.json()["detail"]
    if "id" not in wrong:
        unfit = person.add(replace(Device(person.device.origin), **wrong), "Wrong")
        assert problem(unfit) == (422, "bad-input")


def test_an_answer_counts_once_and_for_what_it_was_asked(person: Person, browser: Browser) -> None:
    person.add().raise_for_status()
    http = browser()
    credential = person.device.shown(options_of(http))
    sent = {"credential": credential}
    assert http.post("/api/v1/session/passkey", json=sent).status_code == 200
    assert problem(browser().post("/api/v1/session/passkey", json=sent)) == (401, "not-signed-in")
    # A challenge of ours for something else, and one that is not ours.
    adding = person.http.post("/api/v1/session/passkeys/options").json()["options"]
    for challenge in (adding["challenge"], "A" * 64, ""):
        assert problem(person.show(browser(), challenge=challenge)) == (401, "not-signed-in")
    # A device whose count falls back is a copy (section 6.1.1).
    person.device.uses = 0
    assert problem(person.show(browser())) == (401, "not-signed-in")
    # What was asked for one sign-in makes a passkey for no other.
    second = browser()
    person.device.uses = 50
    person.show(second).raise_for_status()
    made_for_first = Device(person.device.origin).made(adding)
    body = {"name": "Theirs", "credential": made_for_first}
    assert problem(second.post("/api/v1/session/passkeys", json=body)) == (422, "bad-input")


DEEP = {"response": {"clientDataJSON": base64.urlsafe_b64encode(b"[" * 9_000).decode()}}


def test_nonsense_is_refused_as_such(person: Person, browser: Browser) -> None:
    long = {"credential": {"response": "x" * 20_000}}
    assert problem(browser().post("/api/v1/session/passkey", json=long))[0] in {413, 422}
    for nonsense in (
        {},
        {"response": 1},
        {"response": {"clientDataJSON": "%%"}},
        {"rawId": "AA", "response": {}},
        DEEP,
    ):
        assert problem(browser().post("/api/v1/session/passkey", json={"credential": nonsense})) == (
            401,
            "not-signed-in",
        )
        body = {"name": "None", "credential": nonsense}
        assert problem(person.http.post("/api/v1/session/passkeys", json=body)) == (422, "bad-input")


def test_the_policy_wants_a_passkey_of_whoever_has_a_role(world: World, browser: Browser) -> None:
    ground = "passkey-wanted"
    world.open_directory(ground)
    steward = Person(browser, world, f"steward@{ground}.example")
    password = world.person("steward", ground)["password"]
    body = {"login": steward.login, "password": password}
    entered(steward.http, "/api/v1/session", body).raise_for_status()
    here = f"/api/v1/directories/{ground}"
    steward.http.put(f"{here}/policy", json={"passkey": True}).raise_for_status()
    assert problem(steward.http.get(f"{here}/clients")) == (403, "second-factor-wanted")
    codes = steward.add().raise_for_status().json()["codes"]
    assert steward.http.get(f"{here}/clients").status_code == 200
    # A recovery code lets them set another up, and do nothing else.
    lost = browser()
    entered(lost, "/api/v1/session", {**body, "code": codes[0]}).raise_for_status()
    assert problem(lost.get(f"{here}/clients")) == (403, "second-factor-wanted")
    again = browser()
    steward.show(again).raise_for_status()
    assert again.get(f"{here}/clients").status_code == 200
    # Nobody locks themself out by taking the last one off.
    (kept,) = steward.http.get("/api/v1/session/second-factor").json()["passkeys"]
    assert problem(steward.http.delete(f"/api/v1/session/passkeys/{kept['id']}"))[0] == 403
    assert len(steward.http.get("/api/v1/session/second-factor").json()["passkeys"]) == 1


def test_how_somebody_signs_in_is_changed_only_soon_after_they_showed_who_they_are(
    world: World, person: Person, browser: Browser
) -> None:
    person.add().raise_for_status()
    key = person.http.get("/api/v1/session/second-factor").json()["passkeys"][0]["id"]

    def long_ago() -> None:
        signed_in_earlier(world, person.login)

    long_ago()
    wanted = (403, "confirmation-wanted")
    for call in (
        lambda: person.http.post("/api/v1/session/passkeys/options"),
        lambda: person.http.post("/api/v1/session/second-factor"),
        lambda: person.http.delete(f"/api/v1/session/passkeys/{key}"),
    ):
        assert problem(call()) == wanted
    confirming = "/api/v1/session/confirmation"
    assert problem(person.http.post(confirming, json={"password": "another password"})) == (403, "forbidden")
    assert problem(person.http.post(confirming, json={"password": PASSWORD})) == (409, "code-wanted")
    shown = {"credential": person.device.shown(options_of(person.http))}
    assert person.http.post(f"{confirming}/passkey", json=shown).status_code == 204
    assert person.http.post("/api/v1/session/passkeys/options").status_code == 200
    long_ago()
    assert problem(person.http.delete(f"/api/v1/session/passkeys/{key}")) == wanted
    # Another person's passkey proves nothing of this one.
    other = Device(person.device.origin)
    shown = {"credential": other.shown(options_of(person.http))}
    assert problem(person.http.post(f"{confirming}/passkey", json=shown)) == (401, "not-signed-in")


def test_the_policy_wants_it_shown_anew_before_what_is_heavy(world: World, browser: Browser) -> None:
    ground = "confirming"
    world.open_directory(ground)
    steward = world.person("steward", ground)
    here, http = f"/api/v1/directories/{ground}", browser()
    entered(http, "/api/v1/session", {"login": steward["login"], "password": steward["password"]}).raise_for_status()
    http.put(f"{here}/policy", json={"confirm_minutes": 15}).raise_for_status()
    group = {"title": "Crew", "people": [], "groups": []}
    assert http.put(f"{here}/groups/crew", json=group).is_success
    signed_in_earlier(world, steward["login"])
    assert problem(http.put(f"{here}/groups/crew", json=group)) == (403, "confirmation-wanted")
    assert http.get(f"{here}/groups").status_code == 200
    client = {"name": unique("Light"), "purpose": "Is no control"}
    assert http.post(f"{here}/clients", json=client).status_code == 201
    http.post("/api/v1/session/confirmation", json={"password": steward["password"]}).raise_for_status()
    assert http.put(f"{here}/groups/crew", json=group).is_success


def test_a_steward_takes_a_lost_one_off_and_so_does_its_person(world: World, ground: str, person: Person) -> None:
    person.add().raise_for_status()
    with world.jamb("steward", ground) as steward:
        assert next(one for one in steward.people.list() if one.login == person.login).second_factor
        steward.people.change(person.login, no_second_factor=True)
        assert not next(one for one in steward.people.list() if one.login == person.login).second_factor
        told = [entry.after for entry in steward.ledger.list() if entry.action == "person.changed"]
    assert {"second factor": "taken off"} in told
    assert person.show(person.browser()).status_code == 401
    person.sign_in().raise_for_status()
    person.device = Device(person.device.origin)
    person.add().raise_for_status()
    key = person.http.get("/api/v1/session/second-factor").json()["passkeys"][0]["id"]
    assert person.http.delete(f"/api/v1/session/passkeys/{key}").status_code == 204
    assert person.http.delete(f"/api/v1/session/passkeys/{key}").status_code == 404
    held = person.http.get("/api/v1/session/second-factor").json()
    assert (held["passkeys"], held["recovery_codes"]) == ([], 0)
    assert person.sign_in(http=person.browser()).status_code == 200


def test_a_passkey_is_added_by_no_sign_in_that_is_ended(world: World, ground: str, person: Person) -> None:
    with world.jamb("steward", ground) as steward:
        link = steward.people.link(person.login).link
    answer = met(world, lambda: choose_password(link, "one that nobody else knows"), person.add, of=ground)
    assert answer.status_code == 401, answer.text
    with world.jamb("steward", ground) as steward:
        assert [one.second_factor for one in steward.people.list(q=person.login)] == [False]


def test_an_application_learns_that_it_was_a_passkey(world: World, browser: Browser) -> None:
    with world.jamb() as steward:
        login = f"{unique('pia').replace(' ', '-')}@quillhaven.example"
        add_person(steward, login, "Pia", PASSWORD)
    person = Person(browser, world, login)
    person.sign_in().raise_for_status()
    person.add().raise_for_status()
    client = made(world, "web", ["https://roster.quillhaven.example/signed-in"], [])
    http = browser()
    person.show(http).raise_for_status()
    address, verifier = by_hand(client, scope="openid", acr_values="urn:jamb:acr:second-factor")
    led = httpx.get(address, follow_redirects=False, timeout=60).headers["location"]
    body = {"request": led.partition("#")[2], "allow": True, "permissions": []}
    sent_to = http.post("/api/v1/authorizations/decision", json=body).raise_for_status().json()["redirect_to"]
    tokens = redeemed(client, members(sent_to)["code"], verifier).raise_for_status().json()
    claims = jwt.decode(tokens["id_token"], options={"verify_signature": False})
    assert claims["amr"] == ["pop", "user", "mfa"]
    assert claims["acr"] == "urn:jamb:acr:second-factor"
