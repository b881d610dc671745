"""The guard in a protected API: refusals that name what is missing, reports of use, an issuer that is away."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import httpx
import jwt
import pytest
from cryptography.hazmat.primitives.asymmetric import ec, rsa

from jamb.core.access import ClientStanding, HeldGrant, Request, decide
from jamb.core.permissions import AccessKind
from jamb.demo.scenario import BERTHS as CATALOGUE
from jamb.guard import IssuerKeys, OwnToken, Refused, TokenClaims, UsageReporter, verify
from jamb.guard.report import MOST_ROWS
from jamb.guard.resource import metadata_url
from jamb.guard.verify import require_permission
from tests.world import World, wait_until

ISSUER, AUDIENCE = "https://jamb.example/d/port", "https://berths.example"
KEY = ec.generate_private_key(ec.SECP256R1())


def jwk(key: Any, kid: str) -> jwt.PyJWK:
    public = jwt.algorithms.ECAlgorithm.to_jwk(key.public_key(), as_dict=True)
    return jwt.PyJWK({**public, "kid": kid, "alg": "ES256"})


def token(header: dict[str, Any] | None = None, **claims: Any) -> str:
    now = datetime.now(UTC)
    body = {
        "iss": ISSUER,
        "aud": AUDIENCE,
        "sub": "c1",
        "client_id": "c1",
        "scope": "berths.view",
        "jti": "1",
        "iat": now,
        "exp": now + timedelta(hours=2),
        **claims,
    }
    body = {name: value for name, value in body.items() if value is not None}
    return jwt.encode(body, KEY, "ES256", headers={"typ": "at+jwt", "kid": "k1", **(header or {})})


def check(text: str) -> TokenClaims:
    return verify(text, ISSUER, AUDIENCE, {"k1": jwk(KEY, "k1")}.get)


def test_a_good_token_is_read() -> None:
    claims = check(token())
    assert (claims.client_id, claims.subject, claims.scope, claims.delegated) == ("c1", "c1", {"berths.view"}, False)
    assert check(token(sub="person")).delegated
    assert verify(token({"typ": "probe+jwt"}), ISSUER, AUDIENCE, {"k1": jwk(KEY, "k1")}.get, probes=True).probe
    assert check(token(aud=["https://other.example", AUDIENCE])).client_id == "c1"


def test_an_api_says_by_whom_its_tokens_are_made(world: World) -> None:
    """RFC 9728: a client that knows the API alone finds the issuer, and what it may ask for."""
    bare = httpx.get(f"{world.berths_url}/berths", timeout=60)
    assert bare.status_code == 401
    named = 'resource_metadata="https://berths.quillhaven.example/.well-known/oauth-protected-resource"'
    assert named in bare.headers["WWW-Authenticate"]
    told = httpx.get(f"{world.berths_url}/.well-known/oauth-protected-resource", timeout=60).json()
    assert told["resource"] == "https://berths.quillhaven.example"
    (issuer,) = told["authorization_servers"]
    metadata = httpx.get(f"{issuer}/.well-known/openid-configuration", timeout=60).json()
    assert metadata["issuer"] == issuer
    assert {"berths.view", "berths.assign"} <= set(told["scopes_supported"])
    assert metadata_url("https://a.example/one/") == "https://a.example/.well-known/oauth-protected-resource/one"
    assert metadata_url("urn:api") == ""


PAST = datetime.now(UTC) - timedelta(hours=1)
BAD: dict[str, tuple[str, str]] = {
    "run out": (token(exp=PAST), "run out"),
    "another issuer": (token(iss="https://jamb.example/d/other"), "another issuer"),
    "another audience": (token(aud="https://tides.example"), "another resource"),
    "no audience": (token(aud=None), "does not verify"),
    "no client id": (token(client_id=None), "does not verify"),
    "no expiry": (token(exp=None), "does not verify"),
    "from the future": (token(iat=datetime.now(UTC) + timedelta(hours=1)), "does not verify"),
    "an ID token": (token({"typ": "JWT"}), "not an access token"),
    "a probe, to whoever does not know them": (token({"typ": "probe+jwt"}), "not an access token"),
    "an unknown key": (token({"kid": "k2"}), "does not publish"),
    "too long": (token(scope="x" * 9000), "too long"),
    "not a token": ("a.b.c", "not a JWT"),
    "nothing": ("", "not a JWT"),
}


@pytest.mark.parametrize(("text", "said"), BAD.values(), ids=BAD.keys())
def test_a_bad_token_is_refused_with_the_reason(text: str, said: str) -> None:
    with pytest.raises(Refused) as refused:
        check(text)
    assert (refused.value.status, refused.value.error) == (401, "invalid_token")
    assert said in refused.value.description


def test_the_algorithm_is_the_keys_not_the_tokens() -> None:
    """RFC 8725 section 3.1: the key says which algorithm; a token cannot choose another."""
    other = rsa.generate_private_key(65537, 2048)
    body = jwt.decode(token(), options={"verify_signature": False})
    forged = jwt.encode(body, other, "RS256", headers={"typ": "at+jwt", "kid": "k1"})
    with pytest.raises(Refused):
        check(forged)


def test_a_missing_permission_is_named_as_rfc_6750_has_it() -> None:
    claims = check(token())
    require_permission(claims, ["berths.view", "berths.assign"])
    with pytest.raises(Refused) as refused:
        require_permission(claims, ["berths.assign"])
    challenge = refused.value.challenge("berths")
    assert refused.value.status == 403
    assert 'error="insufficient_scope"' in challenge
    assert 'scope="berths.assign"' in challenge


def test_keys_are_asked_for_once_and_kept_while_the_issuer_is_away() -> None:
    calls: list[str] = []
    public = jwt.algorithms.ECAlgorithm.to_jwk(KEY.public_key(), as_dict=True)

    def answer(request: httpx.Request) -> httpx.Response:
        calls.append(request.url.path)
        if away:
            return httpx.Response(503)
        if "well-known" in request.url.path:
            return httpx.Response(200, json={"issuer": ISSUER, "jwks_uri": f"{ISSUER}/jwks"})
        return httpx.Response(200, json={"keys": [{**public, "kid": "k1", "alg": "ES256"}]})

    away = False
    with httpx.Client(transport=httpx.MockTransport(answer)) as http:
        keys = IssuerKeys(ISSUER, http)
        assert keys.get("k1") is not None
        assert calls == ["/.well-known/oauth-authorization-server/d/port", "/d/port/jwks"]
        away = True
        assert keys.get("k1") is not None
        assert keys.get("k2") is None, "an unknown key is asked for, but not at every request"
        assert keys.get("k2") is None
        assert len(calls) == 2


def test_metadata_of_another_issuer_is_not_believed() -> None:
    def answer(_request: httpx.Request) -> httpx.Response:
        return httpx.Response(200, json={"issuer": "https://evil.example", "jwks_uri": "https://evil.example/jwks"})

    with httpx.Client(transport=httpx.MockTransport(answer)) as http, pytest.raises(Refused) as refused:
        IssuerKeys(ISSUER, http).get("k1")
    assert refused.value.status == 503


def test_an_issuer_that_hangs_slows_no_call_with_a_known_key_and_makes_no_token_bad(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    hangs = threading.Event()
    public = jwt.algorithms.ECAlgorithm.to_jwk(KEY.public_key(), as_dict=True)

    def answer(request: httpx.Request) -> httpx.Response:
        if hangs.is_set():
            time.sleep(3)
            raise httpx.ReadTimeout("hangs")
        if "well-known" in request.url.path:
            return httpx.Response(200, json={"issuer": ISSUER, "jwks_uri": f"{ISSUER}/jwks"})
        return httpx.Response(200, json={"keys": [{**public, "kid": "k1", "alg": "ES256"}]})

    monkeypatch.setattr("jamb.guard.keys.REFRESH_SECONDS", 0)
    monkeypatch.setattr("jamb.guard.keys.RETRY_SECONDS", 0)
    with httpx.Client(transport=httpx.MockTransport(answer)) as http:
        keys = IssuerKeys(ISSUER, http)
        assert keys.get("k1") is not None
        hangs.set()
        started = time.monotonic()
        assert all(keys.get("k1") is not None for _ in range(200)), "each finds them due, and none waits"
        assert time.monotonic() - started < 1
        monkeypatch.setattr("jamb.guard.keys.WAIT_SECONDS", 0.1)
        fresh = IssuerKeys(ISSUER, http)
        with pytest.raises(Refused) as refused:
            verify(token(), ISSUER, AUDIENCE, fresh.get)
        assert (refused.value.status, refused.value.reason) == (503, "no-keys")


@pytest.fixture
def flaky() -> Iterator[tuple[list[dict[str, Any]], list[int], httpx.Client]]:
    """An issuer whose usage endpoint answers with the given statuses, then with 200."""
    received: list[dict[str, Any]] = []
    statuses: list[int] = []

    def answer(request: httpx.Request) -> httpx.Response:
        if "well-known" in request.url.path:
            return httpx.Response(200, json={"issuer": ISSUER, "token_endpoint": f"{ISSUER}/token"})
        if request.url.path.endswith("/token"):
            return httpx.Response(200, json={"access_token": "t", "expires_in": 600})
        received.append(json.loads(request.content))
        return httpx.Response(statuses.pop(0) if statuses else 200, json={})

    with httpx.Client(transport=httpx.MockTransport(answer)) as http:
        yield received, statuses, http


def test_a_batch_keeps_its_id_until_it_is_acknowledged(
    flaky: tuple[list[dict[str, Any]], list[int], httpx.Client],
) -> None:
    received, statuses, http = flaky
    statuses += [503]
    reporter = UsageReporter(f"{ISSUER}/usage", "berths", OwnToken(ISSUER, "aud", "g", "hush", http), http)
    reporter.start()
    for _ in range(3):
        reporter.used("c1", "berths.list", "application")
    wait_until(lambda: len(received) >= 1)
    reporter.used("c1", "berths.read", "application")
    wait_until(lambda: len(received) >= 3, seconds=8)
    reporter.close()
    first, again, later = received[:3]
    assert first == again, "the batch whose answer was lost is sent again as it was"
    assert [(use["operation"], use["calls"]) for use in first["uses"]] == [("berths.list", 3)]
    assert later["batch"] != first["batch"]
    assert [(use["operation"], use["calls"]) for use in later["uses"]] == [("berths.read", 1)]
    assert "hush" not in repr(reporter)


def test_use_counted_in_an_outage_is_sent_in_parts_and_only_what_cannot_be_counted_is_lost() -> None:
    taken: list[dict[str, Any]] = []
    told: list[dict[str, Any]] = []

    def answer(request: httpx.Request) -> httpx.Response:
        if "well-known" in request.url.path:
            return httpx.Response(200, json={"issuer": ISSUER, "token_endpoint": f"{ISSUER}/token"})
        if request.url.path.endswith("/token"):
            return httpx.Response(200, json={"access_token": "t", "expires_in": 600})
        body = json.loads(request.content)
        if len(request.content) > 1_000_000 or any(use["client_id"] == "bad" for use in body["uses"]):
            return httpx.Response(422)
        if "uncounted" in body:
            told.extend(body["uncounted"])
            return httpx.Response(422)
        taken.append(body)
        return httpx.Response(200, json={})

    with httpx.Client(transport=httpx.MockTransport(answer)) as http:
        reporter = UsageReporter(f"{ISSUER}/usage", "berths", OwnToken(ISSUER, "aud", "g", "hush", http), http)
        for client in (*(f"c{number}" for number in range(40)), "bad"):
            for number in range(501):
                reporter.used(client, "berths.read", "application", f"{number} {'ß' * 150}")
        reporter.start()
        reporter.close()
    uses = [use for body in taken for use in body["uses"]]
    assert sum(use["calls"] for use in uses) == 40 * 501
    assert sum(sum(use["objects"].values()) for use in uses) == 40 * 501
    assert len({body["batch"] for body in taken}) == len(taken) > 5
    assert sum(row["calls"] for row in told) == 501, "what is lost is told, and once to a service that cannot take this"


def test_what_is_more_than_a_report_holds_is_told(
    flaky: tuple[list[dict[str, Any]], list[int], httpx.Client], caplog: pytest.LogCaptureFixture
) -> None:
    received, _, http = flaky
    reporter = UsageReporter(f"{ISSUER}/usage", "berths", OwnToken(ISSUER, "aud", "g", "hush", http), http)
    for number in range(MOST_ROWS + 7):
        reporter.used(f"c{number}", "berths.list", "application")
        reporter.refused(f"c{number}", "berths.list", "application", "no-permission", "")
    reporter.start()
    reporter.close()
    assert sum(len(body["uses"]) + len(body["refusals"]) for body in received) == 2 * MOST_ROWS
    assert "14 calls of berths are not counted" in caplog.text
    (row,) = [row for body in received for row in body.get("uncounted", ())]
    assert row["calls"] == 14
    assert row["since"] <= row["until"]


def test_what_is_left_is_sent_on_closing(flaky: tuple[list[dict[str, Any]], list[int], httpx.Client]) -> None:
    received, _, http = flaky
    reporter = UsageReporter(f"{ISSUER}/usage", "berths", OwnToken(ISSUER, "aud", "g", "hush", http), http)
    reporter.start()
    reporter.used("c1", "berths.list", "application")
    reporter.close()
    assert len(received) == 1


def test_guard_and_decision_give_the_same_verdict_on_every_operation(world: World) -> None:
    """What a token opens at the protected API is what `decide` says of its grants, operation by operation."""
    requests = {
        "berths.list": ("GET", "/berths"),
        "berths.read": ("GET", "/berths/north-1"),
        "arrivals.list": ("GET", "/arrivals"),
        "occupant.assign": ("PUT", "/berths/north-1/occupant?ship=Corvina"),
        "berth.close": ("POST", "/berths/fuel-6/closure"),
    }
    assert set(requests) == set(CATALOGUE.operations)
    now = datetime.now(UTC)
    for permission in CATALOGUE.permissions:
        made = world.client(granted=[permission])
        held = world.ask_token(made).json()["access_token"]
        grants = (HeldGrant(permission, AccessKind.APPLICATION, now),)
        standing = ClientStanding(made.id, made.name, True, grants=grants)
        for operation, (method, path) in requests.items():
            decided = decide(CATALOGUE, standing, Request(operation, AccessKind.APPLICATION), now)
            answer = world.call_berths(held, path, method)
            assert answer.status_code == (200 if decided.allowed else 403), (permission, operation)
            if not decided.allowed:
                assert answer.json()["missing_permission"] in CATALOGUE.permissions
