"""One more independent client library does every flow, each of its requests pushed, signed or bound to a key.

`requests_oauth2client` knows nothing of Jamb but the issuer's address.
"""

from __future__ import annotations

import json
import os
import subprocess
from typing import Any

import pytest
import requests
from jwskate import Jwk
from requests_oauth2client import DeviceAuthorizationPollingJob, DPoPToken, InvalidGrant, OAuth2Client, PrivateKeyJwt

from tests.service.entry.roster import BACK, Roster, answered, made, somebody
from tests.world import BERTHS, ROOT, World, wait_until


def client_of(roster: Roster, key: Jwk | None = None) -> OAuth2Client:
    proof: Any = (roster.id, roster.secret) if roster.secret else roster.id
    if key is not None:
        proof = PrivateKeyJwt(roster.id, key)
    return OAuth2Client.from_discovery_endpoint(
        issuer=roster.issuer,
        auth=proof,
        redirect_uri=BACK,
        testing=True,
        # It does not read this one from the metadata.
        device_authorization_endpoint=roster.metadata["device_authorization_endpoint"],
    )


@pytest.fixture(scope="module")
def keyed(world: World) -> tuple[Roster, Jwk]:
    """A web client that proves itself by a key."""
    roster = made(world, "web", [BACK], ["berths.assign"], secret=False)
    key = Jwk.generate(alg="ES256", kty="EC").with_kid_thumbprint()
    with world.jamb(None) as owner:
        owner.credentials.add_keys(roster.id, {"keys": [key.public_jwk().to_dict()]})
    return roster, key


@pytest.mark.parametrize("how", ["pushed", "signed"])
def test_a_person_signs_in_by_a_key_and_tokens_are_bound_to_another(
    world: World, keyed: tuple[Roster, Jwk], how: str
) -> None:
    roster, key = keyed
    client = client_of(roster, key)
    asked = client.authorization_request(
        scope="openid offline_access berths.assign", resource=BERTHS, dpop=True, max_age=3600
    )
    with somebody(world) as http:
        if how == "pushed":
            address = str(client.pushed_authorization_request(asked))
        else:
            address = str(asked.sign(key, alg="ES256", lifetime=60))
        answer = asked.validate_callback(answered(http, address))
    # Its own check of ID tokens fails where the token is bound: that is done below, for one that is not.
    token = client.authorization_code(answer, validate=False)
    assert isinstance(token, DPoPToken)
    told = client.userinfo(token)
    assert token.id_token is not None
    assert told["sub"] == token.id_token.sub

    def opens() -> bool:
        return requests.get(f"{world.berths_url}/berths", auth=token, timeout=30).ok

    wait_until(opens)
    fresh = client.refresh_token(token)
    assert isinstance(fresh, DPoPToken)
    assert client.introspect_token(fresh)["cnf"] == {"jkt": fresh.dpop_key.dpop_jkt}
    assert client.revoke_refresh_token(fresh)
    with pytest.raises(InvalidGrant):
        client.refresh_token(fresh)


def test_an_id_token_is_found_good(world: World, keyed: tuple[Roster, Jwk]) -> None:
    client = client_of(*keyed)
    asked = client.authorization_request(scope="openid profile", max_age=3600)
    with somebody(world) as http:
        answer = asked.validate_callback(answered(http, str(asked)))
    token = client.authorization_code(answer, validate=True)
    assert token.id_token is not None
    assert client.userinfo(token)["name"] == "Oskar Pell"


def test_a_device_is_let_in_for_whoever_types_its_code(world: World) -> None:
    client = client_of(made(world, "device", [], ["berths.view"]))
    shown = client.authorize_device(scope="openid offline_access berths.view")
    job = DeviceAuthorizationPollingJob(client, shown, interval=1, slow_down_interval=1)
    assert job() is None, "nobody has decided yet"
    with somebody(world) as http:
        decided = {"user_code": shown.user_code, "approve": True, "permissions": ["berths.view"]}
        http.post("/api/v1/devices/decision", json=decided).raise_for_status()
    token: Any = None

    def served() -> bool:
        nonlocal token
        token = job()
        return token is not None

    wait_until(served)
    assert world.call_berths(token.access_token).status_code == 200
    assert client.refresh_token(token).refresh_token != token.refresh_token


@pytest.mark.parametrize("library", ["openid-client", "openid-client-5"])
def test_a_device_of_another_language_is_let_in_too(world: World, library: str) -> None:
    device = made(world, "device", [], ["berths.view"])
    given = {
        "PATH": os.environ["PATH"],
        "ISSUER": device.issuer,
        "CLIENT_ID": device.id,
        "SCOPE": "openid offline_access berths.view",
        "RESOURCE": BERTHS,
    }
    script = ROOT / "console" / "tests" / "clients" / f"{library}-device.mjs"
    with (
        subprocess.Popen(
            ["node", script], env=given, text=True, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        ) as running,
        somebody(world) as http,
    ):
        assert running.stdout is not None
        first = running.stdout.readline()
        assert first, running.communicate()[1]
        shown = json.loads(first)
        assert shown["there"] == f"{world.base_url}/device"
        decided = {"user_code": shown["code"], "approve": True, "permissions": ["berths.view"]}
        http.post("/api/v1/devices/decision", json=decided).raise_for_status()
        said, wrong = running.communicate(timeout=60)
        who = http.get("/api/v1/session").json()["person"]["id"]
    assert running.returncode == 0, wrong
    done = json.loads(said)
    assert done["sub"] == who
    assert done["scope"].split() == ["berths.view", "offline_access", "openid"]
    assert world.call_berths(done["token"]).status_code == 200
