"""Signing in: console sessions with their protections, devices, and tokens that must not be believed."""

from __future__ import annotations

import base64
import json
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec

from jamb.client import DeviceSignIn, Jamb, NotSignedIn
from jamb.client.base.auth import DEVICE_GRANT, AccessToken
from tests import patient
from tests.world import World, add_person, unique, wait_until

HERE = "/api/v1/directories/quillhaven"


def test_the_session_cookie_is_out_of_reach_of_scripts_and_other_sites(world: World) -> None:
    person = world.person("registrar")
    body = {"login": person["login"].upper(), "password": person["password"]}
    answer = patient.post(f"{world.base_url}/api/v1/session", json=body)
    cookie = answer.headers["set-cookie"].lower()
    assert "httponly" in cookie
    assert "samesite=strict" in cookie
    assert "path=/" in cookie
    assert answer.json()["person"]["name"] == person["name"]


def test_a_change_without_the_sessions_csrf_value_is_refused(world: World) -> None:
    with world.session("steward", anew=True) as http:
        for value in (None, "", "0" * 64):
            headers = {"X-Jamb-CSRF": value} if value is not None else {}
            http.headers.pop("X-Jamb-CSRF", None)
            answer = http.post(f"{HERE}/clients", json={"name": "x", "purpose": "y"}, headers=headers)
            assert answer.status_code == 403
            assert "X-Jamb-CSRF" in answer.json()["detail"]
        assert http.get(f"{HERE}/clients").status_code == 200, "reading needs none"


def test_a_sign_in_started_by_another_site_is_refused(world: World) -> None:
    person = world.person("steward")
    body = {"login": person["login"], "password": person["password"]}
    url = f"{world.base_url}/api/v1/session"
    assert patient.post(url, json=body, headers={"Origin": "https://elsewhere.example"}).status_code == 403
    assert patient.post(url, json=body, headers={"Origin": world.base_url}).status_code == 200


def test_signing_out_ends_the_session_at_the_service(world: World) -> None:
    with world.session("steward", anew=True) as http:
        cookies = dict(http.cookies)
        assert http.delete("/api/v1/session").status_code == 204
        again = patient.get(f"{world.base_url}/api/v1/session", cookies=cookies)
    assert again.status_code == 401


def test_someone_who_left_is_out_at_once(world: World) -> None:
    with world.session("auditor", anew=True) as http, world.database() as database:
        login = world.person("auditor")["login"]
        token = world.token("auditor")
        try:
            database.execute("update person set active = false where login = %s", [login])
            assert http.get(f"{HERE}/clients").status_code == 401
            answer = patient.get(f"{world.base_url}{HERE}/clients", headers={"Authorization": f"Bearer {token}"})
            assert answer.status_code == 403
            assert "no longer active" in answer.json()["detail"]
        finally:
            database.execute("update person set active = true where login = %s", [login])


# Devices (RFC 8628)


def poll(world: World, started: DeviceSignIn, **changes: str) -> httpx.Response:
    form = {"grant_type": DEVICE_GRANT, "client_id": started.client_id, "device_code": started.device_code, **changes}
    return patient.post(world.token_endpoint(), data=form)


def decide(http: httpx.Client, code: str, approve: bool) -> httpx.Response:
    return http.post("/api/v1/devices/decision", json={"user_code": code, "approve": approve})


def test_a_device_waits_learns_and_is_served_once(world: World) -> None:
    started = DeviceSignIn.start(world.base_url, "quillhaven")
    assert poll(world, started).json()["error"] == "authorization_pending"
    assert poll(world, started).json()["error"] == "slow_down", "polled again within the interval"
    with world.session("auditor", anew=True) as http:
        seen = http.post("/api/v1/devices/lookup", json={"user_code": started.user_code.lower().replace("-", " ")})
        assert seen.json()["client_name"] == "Jamb command line"
        assert decide(http, started.user_code, True).status_code == 204
        assert decide(http, started.user_code, True).status_code == 404, "a code serves once"
    assert poll(world, started).json()["token_type"] == "Bearer"
    assert poll(world, started).json()["error"] == "invalid_grant"


def test_a_device_turned_away_learns_it(world: World) -> None:
    started = DeviceSignIn.start(world.base_url, "quillhaven")
    with world.session("auditor", anew=True) as http:
        decide(http, started.user_code, False)
    assert poll(world, started).json()["error"] == "access_denied"


def test_a_code_that_ran_out_is_dead_on_both_sides(world: World) -> None:
    started = DeviceSignIn.start(world.base_url, "quillhaven")
    with world.database() as database:
        database.execute("update device_request set expires_at = now() - interval '1 second' where state = 'pending'")
    with world.session("auditor", anew=True) as http:
        assert decide(http, started.user_code, True).status_code == 404
    assert poll(world, started).json()["error"] == "expired_token"


def test_a_code_of_one_directory_means_nothing_in_another(world: World) -> None:
    started = DeviceSignIn.start(world.base_url, "quillhaven")
    with world.session("steward", "brisling", anew=True) as http:
        assert decide(http, started.user_code, True).status_code == 404
    assert poll(world, started, client_id="jamb-console.quillhaven").json()["error"] == "invalid_grant"


def test_only_public_clients_may_ask_for_a_device_code(world: World) -> None:
    answer = patient.post(
        f"{world.base_url}/d/quillhaven/device_authorization", data={"client_id": world.demo["automation"]["client_id"]}
    )
    assert (answer.status_code, answer.json()["error"]) == (401, "invalid_client")


def test_signing_out_kills_the_token_before_its_end(world: World) -> None:
    started = DeviceSignIn.start(world.base_url, "quillhaven")
    started.interval_seconds = 0.05
    with world.session("auditor", anew=True) as http:
        decide(http, started.user_code, True)
    token, _ = started.wait()
    with Jamb(world.base_url, "quillhaven", AccessToken(token)) as jamb:
        assert jamb.whoami().roles == ["auditor"]
        jamb.sign_out()
        with pytest.raises(NotSignedIn):
            jamb.whoami()


def test_a_person_sees_where_they_are_signed_in_and_ends_it(world: World) -> None:
    login, password = f"{unique('nomad').replace(' ', '.').lower()}@quillhaven.example", "harbour-lantern-rope-1"
    with world.jamb() as steward:
        add_person(steward, login, "Nomad of the Quays", password)

    @contextmanager
    def signed_in(program: str) -> Iterator[httpx.Client]:
        with httpx.Client(base_url=world.base_url, headers={"User-Agent": program}, timeout=60) as http:
            answer = http.post("/api/v1/session", json={"login": login, "password": password}).raise_for_status()
            http.headers["X-Jamb-CSRF"] = answer.json()["csrf"]
            yield http

    def sign_ins(http: httpx.Client) -> list[dict[str, Any]]:
        told = http.get("/api/v1/session/sign-ins").raise_for_status().json()
        assert told["total"] == len(told["sign_ins"])
        return list(told["sign_ins"])

    with signed_in("here/1") as here, signed_in("there/2") as there, signed_in("elsewhere/3") as elsewhere:
        started = DeviceSignIn.start(world.base_url, "quillhaven")
        started.interval_seconds = 0.05
        decide(here, started.user_code, True)
        token, _ = started.wait()
        shown = {one["user_agent"] or one["kind"]: one for one in sign_ins(here)}
        assert shown.keys() == {"here/1", "there/2", "elsewhere/3", "command-line"}
        assert [name for name, one in shown.items() if one["here"]] == ["here/1"]
        assert shown["there/2"]["address"] == "127.0.0.1"
        assert "jamb_session" not in str(shown)
        with world.session("oskar", anew=True) as other:
            stranger = other.delete(f"/api/v1/session/sign-ins/{shown['there/2']['id']}")
            assert stranger.status_code == 404
        here.delete(f"/api/v1/session/sign-ins/{shown['there/2']['id']}").raise_for_status()
        assert there.get("/api/v1/session").status_code == 401
        assert elsewhere.get("/api/v1/session").status_code == 200
        with world.database() as database:
            database.execute(
                "update console_session set seen_at = now() - interval '20 hours' where user_agent = 'elsewhere/3'"
            )
        assert "elsewhere/3" not in {one["user_agent"] for one in sign_ins(here)}, "idle"
        assert here.delete("/api/v1/session/sign-ins").json() == {"ended": 2}, "with the idle one"
        assert elsewhere.get("/api/v1/session").status_code == 401
        assert [one["user_agent"] for one in sign_ins(here)] == ["here/1"]
        with Jamb(world.base_url, "quillhaven", AccessToken(token)) as jamb, pytest.raises(NotSignedIn):
            jamb.whoami()


# Tokens that must not be believed, by Jamb's own API and by a guard alike


def parts(token: str) -> tuple[dict[str, Any], dict[str, Any], str]:
    header, claims, signature = token.split(".")
    return read(header), read(claims), signature


def read(text: str) -> dict[str, Any]:
    return json.loads(base64.urlsafe_b64decode(text + "=" * (-len(text) % 4)))


def write(value: dict[str, Any]) -> str:
    return base64.urlsafe_b64encode(json.dumps(value).encode()).decode().rstrip("=")


def altered(token: str) -> str:
    header, claims, signature = parts(token)
    return (
        f"{write(header)}.{write({**claims, 'scope': claims['scope'] + ' berths.manage consent.decide'})}.{signature}"
    )


def unsigned(token: str) -> str:
    header, claims, _ = parts(token)
    return f"{write({**header, 'alg': 'none'})}.{write(claims)}."


def signed_by_another(token: str) -> str:
    header, claims, _ = parts(token)
    return jwt.encode(claims, ec.generate_private_key(ec.SECP256R1()), "ES256", headers={**header, "alg": "ES256"})


def with_a_key_of_its_own(token: str) -> str:
    key = ec.generate_private_key(ec.SECP256R1())
    header, claims, _ = parts(token)
    public = jwt.algorithms.ECAlgorithm.to_jwk(key.public_key(), as_dict=True)
    return jwt.encode(claims, key, "ES256", headers={**header, "jwk": public})


def by_a_shared_secret(token: str) -> str:
    header, claims, _ = parts(token)
    return jwt.encode(claims, "x" * 40, "HS256", headers={"kid": header["kid"], "typ": "at+jwt"})


def of_another_kind(token: str) -> str:
    header, claims, signature = parts(token)
    return f"{write({**header, 'typ': 'JWT'})}.{write(claims)}.{signature}"


def with_an_unknown_key(token: str) -> str:
    header, claims, signature = parts(token)
    return f"{write({**header, 'kid': 'feedfacefeedface'})}.{write(claims)}.{signature}"


FORGERIES: dict[str, Callable[[str], str]] = {
    "a wider scope written in": altered,
    "no signature (alg none)": unsigned,
    "signed with another key": signed_by_another,
    "bringing its own key": with_a_key_of_its_own,
    "signed with a shared secret": by_a_shared_secret,
    "a token of another kind": of_another_kind,
    "an unknown key": with_an_unknown_key,
    "cut short": lambda token: token[:-8],
    "no token at all": lambda _token: "x",
}


@pytest.mark.parametrize("forge", FORGERIES.values(), ids=FORGERIES.keys())
def test_a_forged_token_opens_neither_jamb_nor_a_protected_api(world: World, forge: Callable[[str], str]) -> None:
    good = world.token("auditor")
    assert _own(world, good).status_code == 200
    refused = _own(world, forge(good))
    assert refused.status_code == 401
    assert refused.headers["WWW-Authenticate"].startswith("Bearer")
    made = world.client(granted=["berths.view"])
    berths = world.ask_token(made).json()["access_token"]
    assert world.call_berths(berths).status_code == 200
    answer = world.call_berths(forge(berths))
    assert answer.status_code == 401
    assert 'error="invalid_token"' in answer.headers["WWW-Authenticate"]


def _own(world: World, token: str) -> httpx.Response:
    return patient.get(f"{world.base_url}{HERE}/clients", headers={"Authorization": f"Bearer {token}"})


def test_a_token_for_another_audience_or_directory_is_refused(world: World) -> None:
    made = world.client(granted=["berths.view"])
    berths = world.ask_token(made).json()["access_token"]
    answer = _own(world, berths)
    assert (answer.status_code, answer.json()["detail"]) == (401, "The token is for another resource.")
    assert "another resource" in world.call_berths(world.token("auditor")).json()["detail"]
    ferries = world.token("steward", "brisling")
    assert _own(world, ferries).status_code == 401
    assert world.call_berths(ferries).status_code == 401


def test_a_header_that_is_no_bearer_token_is_refused_and_none_names_the_scheme(world: World) -> None:
    answer = patient.get(f"{world.base_url}{HERE}/clients", headers={"Authorization": "Basic eDp5"})
    assert answer.status_code == 401
    bare = patient.get(world.berths_url + "/berths")
    assert bare.status_code == 401
    assert bare.headers["WWW-Authenticate"].startswith('Bearer realm="quillhaven", resource_metadata=')
    assert "error=" not in bare.headers["WWW-Authenticate"], "RFC 6750 section 3.1: none where no token was sent"


def test_a_token_older_than_the_grant_does_not_open_jambs_own_api(world: World) -> None:
    """The same link of the chain that an explanation names: fetch a new token after consent."""
    made = world.client(secret=True)
    # It is heavy: somebody asks, and two others say yes.
    with world.jamb("registrar") as registrar, world.jamb("approver") as first, world.jamb() as second:
        registrar.asks.add(made.id, "jamb", ["registry.read", "usage.report"])
        asked = registrar.requests.make(made.id, "To look at")
        assert first.requests.grant(asked.id).state == "waiting"
        assert second.requests.grant(asked.id).state == "granted"
    resource = world.demo["automation"]["resource"]
    token = world.ask_token(made, resource=resource).json()["access_token"]
    assert _own(world, token).status_code == 200
    with world.database() as database:
        database.execute("update consent set granted_at = now() + interval '2 second' where client_id = %s", [made.id])
    wait_until(lambda: "older than the grant" in _own(world, token).text)
