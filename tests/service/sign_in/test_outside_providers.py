"""People sign in by an outside OpenID provider: whom it means, and every way in which it, or somebody else, lies."""

from __future__ import annotations

import base64
import hashlib
import json
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import ExitStack
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, parse_qsl, urlsplit
from uuid import UUID

import httpx
import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec

from jamb.client import BadInput, Conflict, Forbidden, NotFound
from tests import patient
from tests.cli.run import Shell
from tests.service.entry.roster import BACK, Roster, answered, by_hand, members, redeemed, refreshed
from tests.world import World, add_person, unique, wait_until

GROUND = "by-provider"
HERE = f"/api/v1/directories/{GROUND}"
CLIENT = "jamb at the provider"
SECRET = "a secret: of the provider's & ours"
Browser = Callable[[], httpx.Client]


class Outside:
    """An OpenID provider of the tests, which says whatever a test wants of it."""

    def __init__(self) -> None:
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.claims: dict[str, Any] = {}
        self.metadata: dict[str, Any] = {}
        self.sign: Callable[[dict[str, Any]], str] = self._signed
        self.asked: list[dict[str, str]] = []
        self.nonce = self.challenge = ""
        outside = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                outside.answer(self, outside.told if self.path.endswith("openid-configuration") else outside.jwks)

            def do_POST(self) -> None:
                sent = dict(parse_qsl(self.rfile.read(int(self.headers["Content-Length"])).decode()))
                outside.asked.append({**sent, "authorization": self.headers.get("Authorization", "")})
                outside.answer(self, outside.tokens)

            def log_message(self, *_: Any) -> None:
                """Say nothing."""

        self.server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self.server.serve_forever, daemon=True).start()

    @property
    def issuer(self) -> str:
        return f"http://127.0.0.1:{self.server.server_port}"

    def answer(self, handler: BaseHTTPRequestHandler, made: Callable[[], dict[str, Any]]) -> None:
        body = json.dumps(made()).encode()
        handler.send_response(200)
        handler.send_header("Content-Type", "application/json")
        handler.send_header("Content-Length", str(len(body)))
        handler.end_headers()
        handler.wfile.write(body)

    def told(self) -> dict[str, Any]:
        here = self.issuer
        endpoints = {"authorization_endpoint": f"{here}/authorize", "token_endpoint": f"{here}/token"}
        return {"issuer": here, **endpoints, "jwks_uri": f"{here}/keys", **self.metadata}

    def jwks(self) -> dict[str, Any]:
        public = jwt.algorithms.ECAlgorithm.to_jwk(self.key.public_key(), as_dict=True)
        return {"keys": [{**public, "kid": "one", "use": "sig", "alg": "ES256"}]}

    def tokens(self) -> dict[str, Any]:
        now = int(time.time())
        claims = {"iss": self.issuer, "aud": CLIENT, "iat": now, "exp": now + 60, "nonce": self.nonce, **self.claims}
        return {"access_token": "theirs", "token_type": "Bearer", "id_token": self.sign(claims)}

    def _signed(self, claims: dict[str, Any]) -> str:
        return jwt.encode(claims, self.key, "ES256", headers={"kid": "one"})


@pytest.fixture(scope="module")
def outside() -> Iterator[Outside]:
    made = Outside()
    yield made
    made.server.shutdown()
    made.server.server_close()


@pytest.fixture(scope="module")
def ground(world: World, outside: Outside) -> str:
    world.open_directory(GROUND)
    login, chosen = f"second@{GROUND}.example", "nobody else knows this one"
    with world.jamb("steward", GROUND) as steward:
        add_person(steward, login, "Second Steward", "known to who made it", ["steward"])
        second = {"directory": GROUND, "login": login, "password": "known to who made it", "roles": ["second"]}
        world.demo["people"].append(second)
        with world.session("second", GROUND, anew=True) as http:
            own = {"current": "known to who made it", "password": chosen}
            http.put("/api/v1/session/password", json=own).raise_for_status()
        second["password"] = chosen
        steward.groups.save("crew", title="Crew")
        steward.groups.save("office", title="Office")
        saved(world, outside, adds_people=True, groups={"Deck": "crew", "Desk": "office"})
    return GROUND


@pytest.fixture(autouse=True)
def honest(outside: Outside) -> None:
    outside.claims, outside.metadata, outside.sign = {}, {}, outside._signed
    outside.asked.clear()


@pytest.fixture
def browser(world: World) -> Iterator[Browser]:
    with ExitStack() as stack:
        yield lambda: stack.enter_context(httpx.Client(base_url=world.base_url, timeout=60))


def saved(world: World, outside: Outside, **said: Any) -> None:
    """Name the provider, with another person's yes."""
    named = {"title": "Head office", "issuer": outside.issuer, "client_id": CLIENT, "secret": SECRET, **said}
    with world.jamb("steward", GROUND) as steward, world.jamb("second", GROUND) as second:
        with pytest.raises(Conflict, match="Another person must agree") as waits:
            steward.providers.save("head-office", **named)
        assert waits.value.made is not None
        second.requests.grant(UUID(waits.value.made["id"]))
        steward.providers.save("head-office", **named)


def begun(http: httpx.Client, outside: Outside, then: str = "") -> dict[str, str]:
    """Go off to the provider; return what it is asked."""
    sent = http.get(f"/d/{GROUND}/sign-in/head-office", params={"then": then} if then else {}, follow_redirects=False)
    assert sent.status_code == 303, sent.text
    assert sent.headers["location"].startswith(f"{outside.issuer}/authorize?")
    asked = {name: values[0] for name, values in parse_qs(urlsplit(sent.headers["location"]).query).items()}
    outside.nonce = asked["nonce"]
    return asked


def back(http: httpx.Client, asked: dict[str, str], **answer: str) -> str:
    """Come back from it; return where one is sent then."""
    sent = {"state": asked["state"], "code": "good", **answer}
    came = http.get(f"/d/{GROUND}/signed-in", params={k: v for k, v in sent.items() if v}, follow_redirects=False)
    assert came.status_code == 303, came.text
    return str(came.headers["location"])


def whoami(http: httpx.Client) -> str:
    found = http.get("/api/v1/session")
    return str(found.json()["person"]["login"]) if found.is_success else ""


def mailed(name: str) -> str:
    return f"{unique(name).replace(' ', '-')}@{GROUND}.example"


def test_somebody_new_is_added_linked_and_put_into_groups(
    world: World, ground: str, outside: Outside, browser: Browser
) -> None:
    http, login = browser(), mailed("ada")
    outside.claims = {"sub": login, "email": login.upper(), "email_verified": True, "name": "Ada", "groups": ["Deck"]}
    asked = begun(http, outside, "/applications")
    assert asked["client_id"] == CLIENT
    assert asked["redirect_uri"] == f"{world.base_url}/d/{GROUND}/signed-in"
    assert asked["code_challenge_method"] == "S256"
    assert back(http, asked) == "/applications"
    assert whoami(http) == login
    (redeemed,) = outside.asked
    challenge = base64.urlsafe_b64encode(hashlib.sha256(redeemed["code_verifier"].encode()).digest()).decode()
    assert challenge.rstrip("=") == asked["code_challenge"]
    # RFC 6749 section 2.3.1: each part is form-encoded.
    name, _, secret = base64.b64decode(redeemed["authorization"].removeprefix("Basic ")).decode().partition(":")
    assert (name, secret) == ("jamb%20at%20the%20provider", "a%20secret%3A%20of%20the%20provider%27s%20%26%20ours")
    with world.jamb("steward", ground) as steward:
        assert login in [one.login for group in steward.groups.list() if group.name == "crew" for one in group.people]
        entries = [entry for entry in steward.ledger.list() if entry.actor["kind"] == "provider"]
    assert {entry.action for entry in entries} >= {"person.added", "person.changed"}
    # The next time they are known by their subject, whatever their address is by then; and moved between groups.
    again = browser()
    outside.claims |= {"email": "other@elsewhere.example", "groups": ["Desk"]}
    back(again, begun(again, outside))
    assert whoami(again) == login
    with world.jamb("steward", ground) as steward:
        inside = {group.name: [one.login for one in group.people] for group in steward.groups.list()}
    assert login not in inside["crew"]
    assert login in inside["office"]


def test_whom_the_provider_may_not_mean_is_sent_back_with_the_reason(
    world: World, ground: str, outside: Outside, browser: Browser
) -> None:
    login = mailed("bo")
    with world.jamb("steward", ground) as steward:
        add_person(steward, login, "Bo", "a password of their own")
        outside.claims = {"sub": "bo", "email": login, "email_verified": False}
        http = browser()
        assert back(http, begun(http, outside)) == "/sign-in?refused=unknown"
        assert whoami(http) == ""
        outside.claims["email_verified"] = True
        assert back(http, begun(http, outside)) == "/"
        assert whoami(http) == login
        steward.people.change(login, active=False)
        other = browser()
        assert back(other, begun(other, outside)) == "/sign-in?refused=inactive"
        for error, told in (("access_denied", "declined"), ("server_error", "failed")):
            assert back(other, begun(other, outside), code="", error=error) == f"/sign-in?refused={told}"
        saved(world, outside, adds_people=False)
        outside.claims = {"sub": "cy", "email": mailed("cy"), "email_verified": True}
        assert back(other, begun(other, outside)) == "/sign-in?refused=unknown"
        saved(world, outside, adds_people=True, groups={"Deck": "crew", "Desk": "office"})


def test_a_mail_address_that_is_somebody_elses_now_signs_in_nobody_as_who_had_it(
    world: World, ground: str, outside: Outside, browser: Browser
) -> None:
    """A subject stays one person's, a mail address does not (OpenID Connect Core section 5.7)."""
    login, first, second = mailed("jo"), browser(), browser()
    outside.claims = {"sub": login, "email": login, "email_verified": True}
    assert back(first, begun(first, outside)) == "/"
    outside.claims["sub"] = f"{login} of next year"
    assert back(second, begun(second, outside)) == "/sign-in?refused=linked"
    with world.jamb("steward", ground) as steward:
        tried = steward.providers.preview("head-office", outside.claims)
        assert (tried.login, tried.refused) == ("", "linked")
        assert "another subject" in tried.why
        (listed,) = steward.people.list(q=login)
        assert listed.providers == ["Head office"]
        steward.people.change(login, no_provider=True)
        with pytest.raises(BadInput, match="something to change"):
            steward.people.change(login, no_provider=True)
        assert whoami(first) == "", "whoever it was is signed out"
    assert back(second, begun(second, outside)) == "/"
    assert whoami(second) == login
    outside.claims["sub"] = login
    assert back(first, begun(first, outside)) == "/sign-in?refused=linked"


def test_a_sign_in_that_meets_the_end_of_its_link_signs_nobody_in(
    world: World, ground: str, outside: Outside, browser: Browser
) -> None:
    login, http, led = mailed("kim"), browser(), list[str]()
    outside.claims = {"sub": login, "email": login, "email_verified": True}
    back(http, begun(http, outside))
    http.cookies.clear()
    coming = threading.Thread(target=lambda asked: led.append(back(http, asked)), args=[begun(http, outside)])
    with world.database() as database, database.transaction():
        database.execute("delete from provider_subject where subject = %s", (login,))
        coming.start()
        waits = "select 1 from pg_stat_activity where wait_event_type = 'Lock' and query like '%provider_subject%'"
        with world.database() as watching:
            wait_until(lambda: led or watching.execute(waits).fetchone() is not None)
        database.execute(
            "delete from console_session where person_id = (select id from person where login = %s)", (login,)
        )
    coming.join()
    assert led == ["/sign-in?refused=late"]
    assert whoami(http) == ""


def test_a_provider_keeps_its_issuer(world: World, ground: str, outside: Outside, browser: Browser) -> None:
    """By another issuer the subjects mean other people, and the secret is not for it (RFC 9700 section 4.4)."""
    named = {"title": "Head office", "client_id": CLIENT, "adds_people": True}
    with world.jamb("steward", ground) as steward, pytest.raises(BadInput) as refused:
        steward.providers.save("head-office", **named, issuer="https://elsewhere.example")  # type: ignore[arg-type]
    (fault,) = refused.value.violations
    assert (fault.field, outside.issuer in fault.allowed, "Remove" in fault.next_step) == ("issuer", True, True)


@pytest.mark.parametrize(
    "lie",
    [
        {"iss": "https://elsewhere.example"},
        {"aud": "another client"},
        {"aud": [CLIENT, "another client"]},
        {"nonce": "of another sign-in"},
        {"exp": 1},
        {"iat": 9_999_999_999, "exp": 9_999_999_999},
        {"sub": ""},
        {"sub": 5},
    ],
    ids="-".join,
)
def test_an_id_token_that_is_not_good_signs_nobody_in(
    ground: str, outside: Outside, browser: Browser, lie: dict[str, Any]
) -> None:
    http = browser()
    asked = begun(http, outside)
    outside.claims = {"sub": "dan", "email": mailed("dan"), "email_verified": True, **lie}
    assert back(http, asked) == "/sign-in?refused=failed"
    assert whoami(http) == ""


def test_a_signature_that_is_not_the_providers_signs_nobody_in(ground: str, outside: Outside, browser: Browser) -> None:
    other = ec.generate_private_key(ec.SECP256R1())
    forms: list[Callable[[dict[str, Any]], str]] = [
        lambda claims: jwt.encode(claims, other, "ES256", headers={"kid": "one"}),
        lambda claims: jwt.encode(claims, "", algorithm="none"),
        lambda claims: jwt.encode(claims, json.dumps(outside.jwks()), "HS256", headers={"kid": "one"}),
        lambda claims: outside._signed(claims)[:-8],
        lambda claims: "no token",
    ]
    for form in forms:
        http = browser()
        asked = begun(http, outside)
        outside.claims, outside.sign = {"sub": "eve", "email": mailed("eve"), "email_verified": True}, form
        assert back(http, asked) == "/sign-in?refused=failed"
        assert whoami(http) == ""
    # Another key that the provider publishes is looked for.
    outside.key, outside.sign = other, outside._signed
    http = browser()

    wait_until(lambda: back(http, begun(http, outside)) == "/")


def test_an_answer_is_for_the_browser_that_asked_and_in_time(ground: str, outside: Outside, browser: Browser) -> None:
    outside.claims = {"sub": "flo", "email": mailed("flo"), "email_verified": True}
    victim, thief = browser(), browser()
    asked = begun(victim, outside)
    late = "/sign-in?refused=late"
    assert back(thief, asked) == late, "whoever lures another to an answer of theirs signs nobody in"
    assert back(victim, {"state": "another"}) == late
    assert back(victim, {"state": ""}) == late
    # A provider that says whose its answers are is believed that, and nobody else (RFC 9207, mix-up).
    assert back(victim, asked, iss="https://elsewhere.example") == "/sign-in?refused=failed"
    asked = begun(victim, outside)
    assert back(victim, asked, iss=outside.issuer) == "/"
    assert back(victim, asked) == late, "it counts once"
    for then in ("//elsewhere.example", "https://elsewhere.example", "/\\elsewhere.example", "/a\\b"):
        http = browser()
        assert back(http, begun(http, outside, then)) == "/"


def test_several_factors_of_the_provider_are_a_second_factor(
    world: World, ground: str, outside: Outside, browser: Browser
) -> None:
    login = mailed("gus")
    with world.jamb("steward", ground) as steward:
        add_person(steward, login, "Gus", "a password of their own", ["auditor"])
        steward.change_policy(second_factor=True)
    try:
        for methods, status in ((["pwd"], 403), (["pwd", "mfa"], 200)):
            outside.claims = {"sub": "gus", "email": login, "email_verified": True, "amr": methods}
            http = browser()
            back(http, begun(http, outside))
            assert http.get(f"{HERE}/clients").status_code == status
    finally:
        with world.database() as database:
            database.execute(
                "update directory set policy = policy || '{\"second_factor\": false}'::jsonb where slug = %s", (ground,)
            )


def test_claims_are_tried_and_nothing_is_kept(world: World, ground: str, tmp_path: Path) -> None:
    login = mailed("hal")
    claims = {"sub": "hal", "email": login, "email_verified": True, "groups": ["Deck", "Elsewhere"]}
    with world.jamb("steward", ground) as steward:
        found = steward.providers.preview("head-office", claims)
        assert (found.login, found.added, found.joins, found.roles) == (login, True, ["crew"], [])
        nameless = steward.providers.preview("head-office", {"sub": "hal"})
        assert (nameless.refused, "email_verified" in nameless.why) == ("unknown", True)
        with pytest.raises(BadInput):
            steward.providers.preview("head-office", {})
        with pytest.raises(NotFound):
            steward.providers.preview("nobody", claims)
        assert login not in [one.login for one in steward.people.list()]
    with world.jamb("auditor") as auditor, pytest.raises(Forbidden):
        auditor.providers.save("mine", title="Mine", issuer="https://mine.example", client_id="x")
    shell = Shell(world, tmp_path)
    shell.environment["JAMB_DIRECTORY"] = GROUND
    (tmp_path / "claims.json").write_text(json.dumps(claims))
    (tmp_path / "sign-in.json").write_text(
        json.dumps(
            {"url": world.base_url, "directory": GROUND, "token": world.token("steward", GROUND), "ends_at": 4e9}
        )
    )
    shell.environment["JAMB_SIGN_IN_FILE"] = str(tmp_path / "sign-in.json")
    tried = shell("providers", "try", "head-office", str(tmp_path / "claims.json"))
    assert tried.code == 0, tried.err
    assert f"{login}, added" in tried.out
    (listed,) = shell("providers", "list", "-o", "json").json()
    assert (listed["name"], listed["has_secret"]) == ("head-office", True)
    assert SECRET not in json.dumps(listed)


def test_a_provider_takes_two_people_and_is_removed_with_who_came_by_it(
    world: World, ground: str, outside: Outside, browser: Browser
) -> None:
    with world.jamb("steward", ground) as steward:
        with pytest.raises(Conflict, match="Another person") as waits:
            steward.providers.save("other", title="Other", issuer="https://other.example", client_id="x", secret="y")
        assert waits.value.code == "needs-agreement"
        for wrong in ({"issuer": "nowhere"}, {"title": " "}, {"groups": {"Deck": "nobodies"}}):
            said = {"title": "Other", "issuer": "https://other.example", "client_id": "x", **wrong}
            with pytest.raises((BadInput, Conflict)) as refused:
                steward.providers.save("other", **said)  # type: ignore[arg-type]
            assert refused.value.code != "needs-agreement"
        outside.claims = {"sub": "ivo", "email": mailed("ivo"), "email_verified": True}
        http = browser()
        back(http, begun(http, outside))
        assert whoami(http)
        http.headers["X-Jamb-CSRF"] = http.get("/api/v1/session").json()["csrf"]
        owners = [f"steward@{GROUND}.example"]
        board = steward.clients.register(unique("Board"), "Shows", kind="web", redirect_uris=[BACK], owners=owners)
        issuer = f"{world.base_url}/d/{GROUND}"
        metadata = patient.get(f"{issuer}/.well-known/openid-configuration").json()
        page = Roster(board.id, board.name, steward.secrets.issue(board.id).secret or "", issuer, metadata)
        address, verifier = by_hand(page, scope="openid offline_access")
        held = redeemed(page, members(answered(http, address))["code"], verifier).json()["refresh_token"]
        held = refreshed(page, held).json()["refresh_token"]
        offered = {"login": "anybody@" + f"{GROUND}.example"}
        (shown,) = patient.post(f"{world.base_url}/api/v1/session/providers", json=offered).json()
        assert shown == {"title": "Head office", "href": f"/d/{GROUND}/sign-in/head-office"}
        steward.providers.remove("head-office")
        assert whoami(http) == ""
        assert refreshed(page, held).json()["error"] == "invalid_grant"
        assert patient.post(f"{world.base_url}/api/v1/session/providers", json=offered).json() == []
        gone = browser().get(f"/d/{GROUND}/sign-in/head-office", follow_redirects=False)
        assert gone.status_code == 404
    saved(world, outside, adds_people=True, groups={"Deck": "crew", "Desk": "office"})
