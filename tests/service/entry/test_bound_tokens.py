"""Tokens bound to a key (RFC 9449): at the issuer, at a guarded API and at Jamb's own; and whoever has only the token."""

from __future__ import annotations

import hashlib
import json
import os
import time
from typing import Any

import httpx
import jwt
import pytest

from jamb.client import ClientCredentials, Jamb, NotSignedIn, ProofKey
from jamb.client.base.auth import post
from jamb.client.base.person_tokens import Issuer, PersonSignIn, PersonTokens
from jamb.client.base.private_key import PrivateKey
from tests import patient
from tests.service.entry.roster import BACK, Roster, answered, by_hand, by_library, made, members, somebody
from tests.world import BERTHS, Made, World


class Holder:
    """A client with a key to which its tokens are bound."""

    def __init__(self, world: World) -> None:
        self.made: Made = world.client(granted=["berths.view"])
        self.key = PrivateKey.make()
        public = self.key.public()
        self.jwk = {name: public[name] for name in ("kty", "crv", "x", "y")}
        self.endpoint = world.token_endpoint()
        self.api = world.berths_url + "/berths"

    def proof(self, url: str = "", method: str = "POST", token: str = "", **claims: Any) -> str:
        body = {"jti": os.urandom(8).hex(), "htm": method, "htu": url or self.endpoint, "iat": int(time.time())}
        if token:
            body["ath"] = jwt.utils.base64url_encode(hashlib.sha256(token.encode()).digest()).decode()
        return jwt.encode(body | claims, self.key.key, "ES256", headers={"typ": "dpop+jwt", "jwk": self.jwk})

    def fetch(self, proof: str) -> httpx.Response:
        form = {"grant_type": "client_credentials", "resource": BERTHS, "client_id": self.made.id}
        form["client_secret"] = self.made.secret
        return patient.post(self.endpoint, data=form, headers={"DPoP": proof})

    def open(self, token: str, proof: str, scheme: str = "DPoP") -> httpx.Response:
        return patient.get(self.api, headers={"Authorization": f"{scheme} {token}", "DPoP": proof})


@pytest.fixture(scope="module")
def holder(world: World) -> Holder:
    return Holder(world)


def test_a_bound_token_opens_an_api_for_whoever_holds_the_key_and_once_for_each_proof(holder: Holder) -> None:
    answer = holder.fetch(holder.proof()).raise_for_status()
    token = answer.json()["access_token"]
    assert answer.json()["token_type"] == "DPoP"
    claims = jwt.decode(token, options={"verify_signature": False})
    assert claims["cnf"].keys() == {"jkt"}
    good = holder.proof(holder.api, "GET", token)
    assert holder.open(token, good).status_code == 200
    for scheme, proof in (
        ("DPoP", good),
        ("Bearer", holder.proof(holder.api, "GET", token)),
        ("DPoP", ""),
        ("DPoP", holder.proof(holder.api, "GET")),
        ("DPoP", holder.proof(holder.api, "GET", token + "x")),
        ("DPoP", holder.proof(holder.api, "POST", token)),
        ("DPoP", holder.proof(holder.api + "/north-1", "GET", token)),
        ("DPoP", holder.proof(holder.api, "GET", token, iat=int(time.time()) - 300)),
    ):
        refused = holder.open(token, proof, scheme)
        assert (refused.status_code, refused.headers["WWW-Authenticate"].startswith("DPoP ")) == (401, True)
    stolen = PrivateKey.make()
    theirs = {**stolen.public()}
    with_another = jwt.encode(
        jwt.decode(holder.proof(holder.api, "GET", token), options={"verify_signature": False}),
        stolen.key,  # type: ignore[arg-type]
        "ES256",
        headers={"typ": "dpop+jwt", "jwk": {name: theirs[name] for name in ("kty", "crv", "x", "y")}},
    )
    assert holder.open(token, with_another).status_code == 401
    plain = holder.fetch("")
    assert plain.status_code == 400, "an empty proof is none, and is not passed over"


def test_a_proof_is_judged_at_the_token_endpoint_and_the_owner_hears_of_it(world: World, holder: Holder) -> None:
    once = holder.proof()
    assert holder.fetch(once).status_code == 200
    for wrong in (once, "a.b.c", holder.proof(htm="GET"), holder.proof(world.token_endpoint("brisling"))):
        refused = holder.fetch(wrong)
        assert (refused.status_code, refused.json()["error"]) == (400, "invalid_dpop_proof"), refused.text
    assert "possession" in {one["outcome"] for one in world.failures(holder.made.id)}


def test_a_client_whose_clock_is_wrong_is_served_with_a_value_of_the_servers(holder: Holder) -> None:
    """RFC 9449 section 8; at each process and until it runs out, by nobody's memory."""
    late = int(time.time()) - 5_000
    told = holder.fetch(holder.proof(iat=late))
    assert (told.status_code, told.json()["error"]) == (400, "use_dpop_nonce")
    nonce = told.headers["DPoP-Nonce"]
    assert holder.fetch(holder.proof(iat=late, nonce=nonce)).status_code == 200
    forged = holder.fetch(holder.proof(nonce=nonce[:-2] + ("AA" if not nonce.endswith("AA") else "BB")))
    assert forged.json()["error"] == "use_dpop_nonce"


@pytest.mark.parametrize(("kind", "asked"), [("browser", "plainly"), ("web", "pushed")])
def test_an_independent_library_binds_a_persons_tokens(world: World, kind: str, asked: str) -> None:
    client = made(world, kind, [BACK], ["berths.view"])
    scope, api = "openid profile offline_access berths.view", world.berths_url + "/berths"
    with somebody(world) as http:
        _, done = by_library(http, client, "openid-client", scope, ASKED=asked, BOUND_AT=api)
    assert (done["kind"], done["opened"], done["name"]) == ("dpop", 200, "Oskar Pell")
    assert (done["active"], done["refused"]) == (True, "invalid_grant")


def person_tokens(world: World, client: Roster, key: ProofKey | None) -> dict[str, Any]:
    """What a person allows a public client, redeemed with a proof of this key."""
    with somebody(world) as http:
        address, verifier = by_hand(client, scope="openid offline_access berths.view")
        code = members(answered(http, address))["code"]
    form = {"grant_type": "authorization_code", "code": code, "code_verifier": verifier, "client_id": client.id}
    return dict(post(client.metadata["token_endpoint"], form, key))


def test_a_public_clients_refresh_token_is_bound_too_and_no_thief_ends_it(world: World) -> None:
    page, key = made(world, "browser", [BACK], ["berths.view"]), ProofKey()
    held = person_tokens(world, page, key)
    endpoint = page.metadata["token_endpoint"]
    stolen = {"grant_type": "refresh_token", "refresh_token": held["refresh_token"], "client_id": page.id}
    for theirs in (None, ProofKey()):
        with pytest.raises(NotSignedIn, match="invalid_grant"):
            post(endpoint, stolen, theirs)
    wanted = PersonSignIn(Issuer.read(page.issuer), page.id, proof_key=key)
    with httpx.Client(auth=PersonTokens(wanted, held), timeout=60) as http:
        assert http.get(world.berths_url + "/berths").status_code == 200
        assert http.get(page.metadata["userinfo_endpoint"]).json()["sub"]
    bare = {"Authorization": f"Bearer {held['access_token']}"}
    assert patient.get(page.metadata["userinfo_endpoint"], headers=bare).status_code == 401
    assert dict(post(endpoint, stolen, key))["token_type"] == "DPoP"


def test_a_code_asked_for_with_a_key_is_redeemed_with_it_alone(world: World) -> None:
    """RFC 9449 section 10: who reads the code on its way has not the key."""
    holder, page = Holder(world), made(world, "browser", [BACK], ["berths.view"])
    jkt = hashlib.sha256(json.dumps(holder.jwk, separators=(",", ":"), sort_keys=True).encode()).digest()
    thumb = jwt.utils.base64url_encode(jkt).decode()
    with somebody(world) as http:
        address, verifier = by_hand(page, scope="openid berths.view", dpop_jkt=thumb)
        code = members(answered(http, address))["code"]
    form = {"grant_type": "authorization_code", "code": code, "code_verifier": verifier, "client_id": page.id}
    for headers, status in (({}, 400), ({"DPoP": holder.proof()}, 200)):
        assert patient.post(holder.endpoint, data=form, headers=headers).status_code == status


def test_jambs_own_api_takes_a_bound_token_from_its_holder(world: World) -> None:
    held, key = world.demo["automation"], ProofKey()
    auth = ClientCredentials(
        held["client_id"],
        held["client_secret"],
        token_endpoint=world.token_endpoint(held["directory"]),
        resource=f"{world.base_url}/api/v1/directories/{held['directory']}",
        proof_key=key,
    )
    with Jamb(world.base_url, held["directory"], auth) as jamb:
        assert list(jamb.clients.list())
    token, url = auth.fetch(), f"{auth.resource}/clients"
    request = httpx.Request("GET", url)
    key.prove(request, token)
    with httpx.Client(timeout=60) as http:
        assert http.send(request).status_code == 200
        again = http.send(request)
        bare = http.get(url, headers={"Authorization": f"Bearer {token}"})
    assert (again.status_code, bare.status_code) == (401, 401), "a proof counts once; a token alone not at all"
    assert "DPoP" in bare.headers["WWW-Authenticate"]
