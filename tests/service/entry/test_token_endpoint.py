"""The token endpoint: who gets a token, and how every wrong request ends, for the caller and in the record."""

from __future__ import annotations

import base64
from collections.abc import Callable
from datetime import UTC, datetime, timedelta

import jwt
import pytest
from authlib.integrations.httpx_client import OAuth2Client
from oauthlib.oauth2 import BackendApplicationClient
from requests_oauthlib import OAuth2Session

from jamb.client import Jamb
from jamb.wire.credentials.credentials import Credential
from tests import patient
from tests.world import BERTHS, Made, World, wait_until


@pytest.fixture(scope="module")
def granted(world: World) -> Made:
    return world.client(granted=["berths.assign"])


@pytest.fixture(scope="module")
def waiting(world: World) -> Made:
    return world.client(asked=["berths.view"])


def test_a_token_says_what_rfc_9068_asks_for(world: World, granted: Made) -> None:
    answer = world.ask_token(granted)
    assert answer.status_code == 200
    assert answer.headers["Cache-Control"] == "no-store"
    body = answer.json()
    assert body["token_type"] == "Bearer"
    assert body["expires_in"] == 600
    jwks = patient.get(f"{world.base_url}/d/quillhaven/jwks").json()
    assert {key["alg"] for key in jwks["keys"]} == {"ES256", "RS256"}
    header = jwt.get_unverified_header(body["access_token"])
    with world.jamb("auditor") as auditor:
        # One that signs later may be published already.
        (signs,) = (one.id for one in auditor.signing_keys.list() if (one.state, one.algorithm) == ("signs", "ES256"))
    assert header == {"typ": "at+jwt", "alg": "ES256", "kid": signs}
    key = jwt.PyJWKSet.from_dict(jwks)[header["kid"]]
    claims = jwt.decode(
        body["access_token"], key, algorithms=["ES256"], audience=BERTHS, issuer=f"{world.base_url}/d/quillhaven"
    )
    assert claims["sub"] == claims["client_id"] == granted.id
    assert claims["scope"] == body["scope"] == "berths.assign berths.view", "what is implied is in the token too"
    assert claims["exp"] - claims["iat"] == 600


def test_access_tokens_are_signed_by_rs256_where_the_policy_says_so(world: World, granted: Made) -> None:
    """RFC 9068 section 2.1: for APIs that read nothing else."""
    with world.jamb("steward") as steward:
        steward.change_policy(rs256_access_tokens=True)
        try:
            told = {key.algorithm: key.signs for key in steward.signing_keys.list()}
            assert told == {"ES256": "webhook events and evidence", "RS256": "access tokens and ID tokens"}
            token = world.ask_token(granted).json()["access_token"]
            assert jwt.get_unverified_header(token)["alg"] == "RS256"
            assert world.call_berths(token).status_code == 200
            person = world.token("auditor", anew=True)
            assert jwt.get_unverified_header(person)["alg"] == "RS256"
            whoami = f"{world.base_url}/api/v1/directories/quillhaven/whoami"
            assert patient.get(whoami, headers={"Authorization": f"Bearer {person}"}).status_code == 200
        finally:
            steward.change_policy(rs256_access_tokens=False)
        told = {key.algorithm: key.signs for key in steward.signing_keys.list()}
        assert told == {"ES256": "access tokens", "RS256": "ID tokens"}
    assert jwt.get_unverified_header(world.ask_token(granted).json()["access_token"])["alg"] == "ES256"
    assert world.call_berths(token).status_code == 200, "what was signed before counts still"


def test_no_two_tokens_share_an_id(world: World, granted: Made) -> None:
    tokens = [world.ask_token(granted).json()["access_token"] for _ in range(3)]
    assert len({jwt.decode(one, options={"verify_signature": False})["jti"] for one in tokens}) == 3


def test_a_smaller_scope_may_be_asked_and_is_all_one_gets(world: World, granted: Made) -> None:
    assert world.ask_token(granted, scope="berths.view").json()["scope"] == "berths.view"


def test_the_resource_may_be_left_out_when_there_is_only_one(world: World, granted: Made) -> None:
    assert world.ask_token(granted, resource="").json()["scope"] == "berths.assign berths.view"


def test_independent_clients_fetch_tokens_by_basic_and_by_post(world: World, granted: Made) -> None:
    for method in ("client_secret_basic", "client_secret_post"):
        with OAuth2Client(granted.id, granted.secret, token_endpoint_auth_method=method) as http:
            token = http.fetch_token(world.token_endpoint(), grant_type="client_credentials", resource=BERTHS)
        assert world.call_berths(token["access_token"]).status_code == 200
    session = OAuth2Session(client=BackendApplicationClient(client_id=granted.id))
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("OAUTHLIB_INSECURE_TRANSPORT", "1")  # loopback has no TLS
        token = session.fetch_token(world.token_endpoint(), client_secret=granted.secret, resource=BERTHS)
    session.close()
    assert world.call_berths(token["access_token"]).status_code == 200


def test_the_metadata_tells_where_everything_is(world: World) -> None:
    """RFC 8414 section 3: the well-known part goes between host and path."""
    answer = patient.get(f"{world.base_url}/.well-known/oauth-authorization-server/d/quillhaven").json()
    assert answer["issuer"] == world.demo["directories"]["quillhaven"]["issuer"]
    assert answer["token_endpoint"] == world.token_endpoint()
    assert patient.get(answer["jwks_uri"]).status_code == 200
    assert set(answer["token_endpoint_auth_methods_supported"]) >= {"client_secret_basic", "client_secret_post"}


WRONG: dict[str, tuple[dict[str, str], int, str, str, str]] = {
    "an unknown client": ({"client_id": "nobody"}, 401, "invalid_client", "authentication failed", ""),
    "no secret": ({"client_secret": ""}, 401, "invalid_client", "No client secret", "no-secret"),
    "a space after the secret": (
        {"client_secret": "{secret} "},
        401,
        "invalid_client",
        "white space",
        "secret-whitespace",
    ),
    "a line end after the secret": (
        {"client_secret": "{secret}\n"},
        401,
        "invalid_client",
        "white space",
        "secret-whitespace",
    ),
    "half the secret": ({"client_secret": "{half}"}, 401, "invalid_client", "incomplete", "secret-damaged"),
    "a secret of some other kind": ({"client_secret": "hunter2"}, 401, "invalid_client", "failed", "secret-unknown"),
    "an unknown resource": (
        {"resource": "https://nowhere.example"},
        400,
        "invalid_target",
        "no resource",
        "unknown-resource",
    ),
    "two slashes after the resource": (
        {"resource": BERTHS + "//"},
        400,
        "invalid_target",
        "no resource",
        "unknown-resource",
    ),
    "an unknown permission": ({"scope": "berths.fly"}, 400, "invalid_scope", "no permission", "unknown-permission"),
    "a permission never asked": ({"scope": "berths.manage"}, 400, "invalid_scope", "not asked", "not-granted"),
    "one granted, one not": (
        {"scope": "berths.view berths.manage"},
        400,
        "invalid_scope",
        "berths.manage",
        "not-granted",
    ),
    "no grant type": ({"grant_type": ""}, 400, "invalid_request", "grant_type", ""),
    "another grant type": ({"grant_type": "password"}, 400, "unsupported_grant_type", "client_credentials", ""),
}


@pytest.mark.parametrize("case", WRONG.values(), ids=WRONG.keys())
def test_a_wrong_request_ends_in_the_rfcs_error_and_leaves_a_record(
    world: World, granted: Made, case: tuple[dict[str, str], int, str, str, str]
) -> None:
    changes, status, error, described, outcome = case
    secrets = {"{secret}": granted.secret, "{half}": granted.secret[:30]}
    sent = {name: _filled(value, secrets) for name, value in changes.items()}
    before = failures_of(world, granted)
    answer = world.ask_token(granted, **sent)
    assert (answer.status_code, answer.json()["error"]) == (status, error)
    assert described in answer.json()["error_description"]
    assert granted.secret not in answer.text
    if status == 401:
        assert answer.headers["WWW-Authenticate"].startswith("Basic ")
    if outcome:
        recorded = world.failures(granted.id)
        assert failures_of(world, granted) == before + 1, "a failure is committed before it is answered"
        assert recorded[0]["outcome"] == outcome
        assert recorded[0]["remedy"]


def test_a_resource_is_known_with_the_slash_that_browsers_add(world: World, granted: Made) -> None:
    """RFC 3986 section 6.2.3; the token names it as it is registered, and as guards compare it."""
    token = world.ask_token(granted, resource=BERTHS + "/").raise_for_status().json()["access_token"]
    assert jwt.decode(token, options={"verify_signature": False})["aud"] == BERTHS
    with world.jamb("steward") as steward:
        asking = world.client(secret=False)
        steward.asks.add(asking.id, BERTHS + "/", ["berths.view"])
        assert [place.resource for place in steward.clients.read(asking.id).resources] == ["berths"]


def failures_of(world: World, made: Made) -> int:
    return sum(one["times"] for one in world.failures(made.id))


def _filled(value: str, secrets: dict[str, str]) -> str:
    for name, secret in secrets.items():
        value = value.replace(name, secret)
    return value


def test_asked_but_not_consented_is_said_to_both_sides(world: World, waiting: Made) -> None:
    answer = world.ask_token(waiting)
    assert answer.status_code == 400
    assert answer.json()["error"] == "invalid_scope"
    assert answer.json()["error_description"].startswith("berths.view: asked, not granted.")
    assert world.failures(waiting.id)[0]["outcome"] == "asked-not-granted"


def test_a_secret_of_another_client_is_recorded_but_not_told(world: World, granted: Made, waiting: Made) -> None:
    answer = world.ask_token(granted, client_secret=waiting.secret)
    unknown = world.ask_token(granted, client_secret="something else")
    assert answer.json() == unknown.json()
    newest, older = world.failures(granted.id)[:2]
    assert (newest["outcome"], older["outcome"]) == ("secret-unknown", "secret-of-another-client")


def test_a_withdrawn_secret_is_dead_at_once(world: World) -> None:
    made = world.client(granted=["berths.view"])
    assert world.ask_token(made).status_code == 200
    with world.jamb() as jamb:
        (held,) = jamb.secrets.list(made.id)
        jamb.credentials.withdraw(made.id, held.id, reason="lost")
    assert world.ask_token(made).json()["error"] == "invalid_client"
    failure = world.failures(made.id)[0]
    assert (failure["outcome"], failure["hint"]) == ("secret-withdrawn", held.hint)


def test_an_expired_secret_and_a_grant_past_its_end_open_nothing(world: World) -> None:
    made = world.client(granted=["berths.view"])
    past = datetime.now(UTC) - timedelta(hours=1)
    with world.database() as database:
        database.execute("update consent set expires_at = %s where client_id = %s", [past, made.id])
        assert world.ask_token(made).json()["error"] == "invalid_scope"
        with world.jamb("auditor") as jamb:
            explained = jamb.clients.explain(made.id, "berths", "berths.list")
        assert not explained.allowed, "the token endpoint and the explanation agree"
        database.execute("update credential set expires_at = %s where client_id = %s", [past, made.id])
    answer = world.ask_token(made)
    assert answer.status_code == 401
    assert "expired on" in answer.json()["error_description"]
    assert world.failures(made.id)[0]["outcome"] == "secret-expired"


def basic(name: str, value: str) -> str:
    return "Basic " + base64.b64encode(f"{name}:{value}".encode()).decode()


MALFORMED: dict[str, tuple[Callable[[Made], dict[str, object]], str]] = {
    "JSON instead of a form": (lambda made: {"json": {"grant_type": "client_credentials"}}, "invalid_request"),
    "a parameter twice": (
        lambda made: {"content": "grant_type=client_credentials&scope=a&scope=b", "headers": FORM},
        "invalid_request",
    ),
    "not UTF-8": (lambda made: {"content": b"grant_type=%ff%fe", "headers": FORM}, "invalid_request"),
    "a very long form": (lambda made: {"content": "a=" + "x" * 20_000, "headers": FORM}, "invalid_request"),
    "a secret in the header and in the form": (
        lambda made: {
            "data": {"grant_type": "client_credentials", "client_secret": made.secret},
            "headers": {"Authorization": basic(made.id, made.secret)},
        },
        "invalid_request",
    ),
    "different clients in header and form": (
        lambda made: {
            "data": {"grant_type": "client_credentials", "client_id": "other"},
            "headers": {"Authorization": basic(made.id, made.secret)},
        },
        "invalid_request",
    ),
    "a header that is not base64": (
        lambda made: {"data": {"grant_type": "client_credentials"}, "headers": {"Authorization": "Basic ***"}},
        "invalid_client",
    ),
    "two resources": (
        lambda made: {
            "data": {
                "grant_type": "client_credentials",
                "client_id": made.id,
                "client_secret": made.secret,
                "resource": [BERTHS, "https://tides.quillhaven.example"],
            }
        },
        "invalid_target",
    ),
}
FORM = {"Content-Type": "application/x-www-form-urlencoded"}


@pytest.mark.parametrize(("request_of", "error"), MALFORMED.values(), ids=MALFORMED.keys())
def test_a_malformed_request_is_refused(
    world: World, granted: Made, request_of: Callable[[Made], dict[str, object]], error: str
) -> None:
    answer = patient.post(world.token_endpoint(), **request_of(granted))  # type: ignore[arg-type]
    assert answer.status_code in {400, 401}
    assert answer.json()["error"] == error
    assert answer.json()["error_description"]


def test_a_wrong_address_says_where_the_endpoint_is(world: World) -> None:
    astray = patient.post(f"{world.base_url}/d/quillhaven/tokens")
    assert astray.status_code == 404
    assert "/d/quillhaven/token" in astray.json()["next_step"]
    nowhere = patient.post(
        world.token_endpoint("atlantis"),
        data={"grant_type": "client_credentials", "client_id": "x", "client_secret": "y", "resource": "z"},
    )
    assert nowhere.status_code == 404
    assert "atlantis" in nowhere.json()["detail"]
    wrong_method = patient.get(world.token_endpoint())
    assert (wrong_method.status_code, wrong_method.headers["Allow"]) == (405, "OPTIONS, POST")


def test_a_client_of_one_directory_is_unknown_in_another(world: World, granted: Made) -> None:
    form = {"grant_type": "client_credentials", "client_id": granted.id, "client_secret": granted.secret}
    answer = patient.post(world.token_endpoint("brisling"), data={**form, "resource": BERTHS})
    assert answer.json()["error"] == "invalid_client"


def test_use_is_noted_on_the_secret(world: World) -> None:
    made = world.client(granted=["berths.view"])
    with world.jamb() as jamb:
        assert jamb.secrets.list(made.id)[0].first_used_at is None
        world.ask_token(made)
        first = _used(jamb, made)
        assert first.first_used_at == first.last_used_at
        world.ask_token(made)
        later = _used(jamb, made, after=first.last_used_at)
        assert later.first_used_at == first.first_used_at


def _used(jamb: Jamb, made: Made, after: datetime | None = None) -> Credential:
    def noted() -> bool:
        last = jamb.secrets.list(made.id)[0].last_used_at
        return last is not None and (after is None or last > after)

    wait_until(noted)
    return jamb.secrets.list(made.id)[0]
