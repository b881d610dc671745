"""How a client asks for a person: pushed before (RFC 9126), signed (RFC 9101), for single claims, answered by a form."""

from __future__ import annotations

import json
import re
import time
from collections.abc import Callable
from html import unescape
from typing import Any
from urllib.parse import urlencode, urlsplit

import httpx
import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec
from jwt.algorithms import ECAlgorithm

from jamb.core.credentials.public_keys import jwk_of
from tests import patient
from tests.service.entry.roster import (
    BACK,
    Roster,
    answered,
    asked_of,
    by_hand,
    by_library,
    made,
    members,
    redeemed,
    somebody,
)
from tests.world import BERTHS, World


class Signing:
    """A web client with a key of its own, and no secret."""

    def __init__(self, world: World) -> None:
        self.client = made(world, "web", [BACK], ["berths.view"], secret=False)
        self.key = ec.generate_private_key(ec.SECP256R1())
        self.jwk = jwk_of(self.key.public_key())
        with world.jamb("custodian") as custodian:
            custodian.credentials.add_keys(self.client.id, {"keys": [self.jwk]})

    def signed(self, key: Any = None, headers: dict[str, Any] | None = None, **claims: Any) -> str:
        """A request object, and nothing beside it but who asks."""
        address, _ = by_hand(self.client, state="of the object", scope="openid berths.view")
        now = int(time.time())
        body = {**members(address), "iss": self.client.id, "aud": self.client.issuer, "iat": now, "exp": now + 60}
        named = {"kid": self.jwk["kid"], "typ": "oauth-authz-req+jwt"} | (headers or {})
        kept = {name: value for name, value in (body | claims).items() if value is not None}
        return jwt.encode(kept, key or self.key, "ES256", headers=named)

    def asking(self, signed: str, **more: str) -> str:
        sent = {"client_id": self.client.id, "request": signed, **more}
        return f"{self.client.metadata['authorization_endpoint']}?{urlencode(sent)}"


@pytest.fixture(scope="module")
def signing(world: World) -> Signing:
    return Signing(world)


def pushed(roster: Roster, address: str, **more: str) -> httpx.Response:
    form = members(address) | {"client_id": roster.id, "client_secret": roster.secret} | more
    return patient.post(roster.metadata["pushed_authorization_request_endpoint"], data=form)


def by_uri(roster: Roster, uri: str) -> str:
    asked = urlencode({"client_id": roster.id, "request_uri": uri})
    return f"{roster.metadata['authorization_endpoint']}?{asked}"


def form_of(page: httpx.Response) -> tuple[str, dict[str, str]]:
    """Where a page's form goes, and its fields."""
    fields = re.findall(r'name="([^"]*)" value="([^"]*)"', page.text)
    action = re.search(r'action="([^"]*)"', page.text)
    assert action is not None, page.text
    return unescape(action[1]), {name: unescape(value) for name, value in fields}


@pytest.mark.parametrize("asked", ["pushed", "signed"])
def test_an_independent_library_asks_with_its_key(world: World, signing: Signing, asked: str) -> None:
    key = json.dumps(ECAlgorithm.to_jwk(signing.key, as_dict=True))
    scope, named = "openid profile offline_access berths.view", {"CLIENT_KEY": key, "KEY_ID": signing.jwk["kid"]}
    with somebody(world) as http:
        address, done = by_library(http, signing.client, "openid-client", scope, ASKED=asked, **named)
    assert members(address).keys() == {"client_id", "request_uri" if asked == "pushed" else "request"}
    assert (done["name"], done["active"], done["refused"]) == ("Oskar Pell", True, "invalid_grant")


@pytest.mark.parametrize("proof", ["key", "secret"])
def test_a_library_of_another_family_pushes_binds_and_judges_as_an_api(
    world: World, signing: Signing, proof: str
) -> None:
    api, named, client = world.berths_url + "/berths", {"AUDIENCE": BERTHS}, made(world, "web", [BACK], ["berths.view"])
    if proof == "key":
        key = json.dumps(ECAlgorithm.to_jwk(signing.key, as_dict=True))
        client, named = signing.client, {**named, "CLIENT_KEY": key, "KEY_ID": signing.jwk["kid"]}
    with somebody(world) as http:
        scope = "openid profile offline_access berths.view"
        address, done = by_library(http, client, "openid4vc", scope, BOUND_AT=api, **named)
    assert members(address).keys() == {"client_id", "request_uri"}
    assert (done["kind"], done["opened"], done["client"]) == ("DPoP", 200, client.id)
    assert "berths.view" in done["scope"].split()


def test_what_is_pushed_is_asked_as_it_was_pushed(world: World, roster: Roster) -> None:
    address, verifier = by_hand(roster, state="pushed")
    answer = pushed(roster, address)
    assert (answer.status_code, answer.headers["cache-control"]) == (201, "no-store")
    assert answer.json()["expires_in"] == 90
    uri = answer.json()["request_uri"]
    with somebody(world) as http:
        # RFC 9126 section 4: what stands beside it counts for nothing.
        back = answered(http, by_uri(roster, uri) + "&state=another&scope=openid")
        assert (members(back)["state"], members(back)["iss"]) == ("pushed", roster.issuer)
        token = redeemed(roster, members(back)["code"], verifier).raise_for_status().json()
        assert token["scope"].split() == ["berths.assign", "berths.view", "openid"]
        other = made(world, "web", [BACK], [])
        for wrong in (by_uri(other, uri), by_uri(roster, uri[:-4] + "AAAA"), by_uri(roster, f"{uri[:40]}x")):
            led = urlsplit(httpx.get(wrong, follow_redirects=False, timeout=60).headers["location"])
            assert led.path == "/allow"
            looked = http.post("/api/v1/authorizations/lookup", json={"request": led.fragment})
            assert looked.status_code == 422, "nobody is sent anywhere"


@pytest.mark.parametrize(
    ("sent", "error"),
    [
        ({"client_secret": "wrong"}, "invalid_client"),
        ({"request_uri": "urn:ietf:params:oauth:request_uri:x"}, "invalid_request"),
        ({"redirect_uri": "https://evil.example/"}, "invalid_request"),
        ({"code_challenge_method": "plain"}, "invalid_request"),
        ({"scope": "openid no.such"}, "invalid_scope"),
        ({"resource": "https://nowhere.example"}, "invalid_target"),
    ],
)
def test_what_is_wrong_is_said_to_the_client_that_pushes_it(roster: Roster, sent: dict[str, str], error: str) -> None:
    answer = pushed(roster, by_hand(roster)[0], **sent)
    assert answer.json().get("error") == error, answer.text
    assert answer.status_code == (401 if error == "invalid_client" else 400)


FORGED: dict[str, Callable[[Signing], str]] = {
    "signed by nobody": lambda it: jwt.encode({"iss": it.client.id, "aud": it.client.issuer}, None, "none"),
    "signed with another key": lambda it: it.signed(ec.generate_private_key(ec.SECP256R1())),
    "for another issuer": lambda it: it.signed(aud="https://other.example"),
    "of another client": lambda it: it.signed(client_id="somebody-else"),
    "of another issuer": lambda it: it.signed(iss="somebody-else"),
    "run out": lambda it: it.signed(exp=int(time.time()) - 600),
    "without end": lambda it: it.signed(exp=None),
    "signed as an assertion": lambda it: it.signed(headers={"typ": "client-authentication+jwt"}),
    "with an object inside": lambda it: it.signed(request="e30.e30."),
    "with a list": lambda it: it.signed(scope=["openid"]),
}


@pytest.mark.parametrize("name", FORGED)
def test_a_request_object_that_is_not_the_clients_is_refused(signing: Signing, name: str) -> None:
    address = signing.asking(FORGED[name](signing), redirect_uri=BACK, state="outside")
    led = httpx.get(address, follow_redirects=False, timeout=60).headers["location"]
    assert led.startswith(BACK + "?"), led
    assert (members(led)["error"], members(led)["state"]) == ("invalid_request_object", "outside")


def test_of_a_signed_request_nothing_beside_it_counts(world: World, signing: Signing) -> None:
    outside = {"state": "outside", "scope": "openid email", "redirect_uri": BACK + "/other", "prompt": "consent"}
    with somebody(world) as http:
        address = signing.asking(signing.signed(), **outside)
        assert asked_of(http, address)["about"] == []
        assert members(answered(http, address))["state"] == "of the object"
    as_assertion = {
        "grant_type": "client_credentials",
        "client_assertion_type": "urn:ietf:params:oauth:client-assertion-type:jwt-bearer",
        "client_assertion": signing.signed(sub=signing.client.id, jti="once"),
    }
    refused = patient.post(signing.client.metadata["token_endpoint"], data=as_assertion)
    assert (refused.status_code, refused.json()["error"]) == (401, "invalid_client"), "RFC 9101 section 10.8"


def test_an_answer_goes_as_a_form_where_the_client_wants_it(world: World, roster: Roster) -> None:
    address, verifier = by_hand(roster, response_mode="form_post", state='"><script>alert(1)</script>')
    with somebody(world) as http:
        led = urlsplit(httpx.get(address, follow_redirects=False, timeout=60).headers["location"])
        body = {"request": led.fragment, "allow": True, "permissions": []}
        sent_on = http.post("/api/v1/authorizations/decision", json=body).raise_for_status().json()
        assert sent_on["redirect_to"] == ""
        page = patient.post(f"{roster.issuer}/answer", data={"answer": sent_on["form"]})
        assert page.headers["content-security-policy"].startswith("default-src 'none'; script-src 'self'")
        assert "<script>alert" not in page.text
        action, fields = form_of(page)
        assert (action, fields.keys()) == (BACK, {"code", "state", "iss"})
        assert fields["state"] == '"><script>alert(1)</script>'
        assert redeemed(roster, fields["code"], verifier).status_code == 200
        assert patient.post(f"{roster.issuer}/answer", data={"answer": led.fragment}).status_code == 422
        quiet = asked_of(http, by_hand(roster, response_mode="form_post", prompt="login")[0])
        assert (quiet["redirect_to"], quiet["form"]) == ("", "")
    wrong = httpx.get(by_hand(roster, response_mode="form_post", scope="openid no.such")[0], timeout=60)
    assert form_of(wrong)[1]["error"] == "invalid_scope"


def test_single_claims_are_asked_shown_and_told_where_they_were_asked_for(world: World, roster: Roster) -> None:
    claims = {"userinfo": {"email": {"essential": True}, "shoe_size": None}, "id_token": {"name": None}}
    with somebody(world) as http:
        address, verifier = by_hand(roster, claims=json.dumps(claims), scope="openid")
        assert asked_of(http, address)["about"] == ["profile", "email"]
        token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
        told = jwt.decode(token["id_token"], options={"verify_signature": False})
        assert (told["name"], "email" in told) == ("Oskar Pell", False)
        bearer = {"Authorization": f"Bearer {token['access_token']}"}
        who = patient.get(roster.metadata["userinfo_endpoint"], headers=bearer).json()
        assert who == {"sub": told["sub"], "email": world.person("oskar")["login"]}
        # OpenID Connect Core section 5.5.1: it means one person, and takes no other for them.
        meant = by_hand(roster, claims=json.dumps({"id_token": {"sub": {"value": told["sub"]}}}))[0]
        assert asked_of(http, meant)["sign_in"] == ""
        with somebody(world, "pia") as other:
            assert asked_of(other, meant)["sign_in"] == "needed"
            fragment = urlsplit(httpx.get(meant, follow_redirects=False, timeout=60).headers["location"]).fragment
            body = {"request": fragment, "allow": True, "permissions": []}
            assert other.post("/api/v1/authorizations/decision", json=body).status_code == 403
    for wrong in ("[]", "{", '{"userinfo": 3}', '{"id_token": {"name": "x"}}'):
        led = httpx.get(by_hand(roster, claims=wrong)[0], follow_redirects=False, timeout=60).headers["location"]
        assert members(led)["error"] == "invalid_request"
