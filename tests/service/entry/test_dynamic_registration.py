"""Software registers its own client with what an administrator gave it, and manages it while it is a draft."""

from __future__ import annotations

import asyncio
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from cryptography.hazmat.primitives.asymmetric import ec

from jamb.client import BadInput, Conflict, Forbidden
from jamb.core.credentials.public_keys import jwk_of
from jamb.core.permissions import AccessKind
from jamb.wire.clients.initial_access import InitialAccess
from tests import patient
from tests.cli.run import Shell
from tests.own_loop import in_own_loop
from tests.service.entry.roster import (
    BACK,
    Roster,
    answered,
    asked_of,
    by_hand,
    by_library,
    members,
    redeemed,
    somebody,
)
from tests.world import World, unique


@pytest.fixture
def access(world: World) -> Iterator[InitialAccess]:
    with world.jamb() as owner:
        made = owner.initial_access.make(unique("Vendors"), uses=20)
        yield made
        if next(one for one in owner.initial_access.list() if one.id == made.id).state == "open":
            owner.initial_access.withdraw(made.id)


def endpoint(world: World) -> str:
    issuer = f"{world.base_url}/d/quillhaven"
    found = patient.get(f"{issuer}/.well-known/openid-configuration").raise_for_status().json()
    return str(found["registration_endpoint"])


def sent(world: World, token: str, **metadata: Any) -> httpx.Response:
    return patient.post(endpoint(world), json=metadata, headers={"Authorization": f"Bearer {token}"})


def managed(made: dict[str, Any], method: str, **metadata: Any) -> httpx.Response:
    bearer = {"Authorization": f"Bearer {made['registration_access_token']}"}
    body = {"json": metadata} if method == "PUT" else {}
    return httpx.request(method, made["registration_client_uri"], headers=bearer, timeout=60, **body)


def test_what_is_registered_signs_people_in_once_somebody_consented(world: World, access: InitialAccess) -> None:
    name = unique("Quay board")
    answer = sent(
        world,
        access.token,
        client_name=name,
        redirect_uris=[BACK],
        scope="openid berths.assign",
        contacts=["help@brisling.example"],
        policy_uri="https://brisling.example/privacy",
        software_version="3.1",
    )
    assert answer.status_code == 201, answer.text
    assert answer.headers["cache-control"] == "no-store"
    made = answer.json()
    assert made["client_name"] == name
    assert made["redirect_uris"] == [BACK]
    assert made["token_endpoint_auth_method"] == "client_secret_basic"
    assert made["id_token_signed_response_alg"] == "RS256"
    assert "berths.assign" in made["scope"].split()
    assert made["client_secret_expires_at"] > made["client_id_issued_at"]
    assert "software_version" not in made
    with world.jamb() as steward:
        seen = steward.clients.read(made["client_id"])
        assert seen.client.kind == "web"
        assert seen.client.support_contact == "help@brisling.example"
        assert [owner.name for owner in seen.client.owners] == [access.made_by]
        asked = [rung for place in seen.resources for rung in place.rungs]
        assert [(rung.permission, rung.kind, rung.granted_at) for rung in asked] == [
            ("berths.assign", AccessKind.DELEGATED, None)
        ]
        told = [entry.action for entry in steward.ledger.list(client=made["client_id"])]
        assert {"client.registered", "permission.asked", "secret.issued"} <= set(told)
    issuer = f"{world.base_url}/d/quillhaven"
    metadata = patient.get(f"{issuer}/.well-known/openid-configuration").json()
    for file in ("openid-configuration", "oauth-authorization-server"):
        for address in (f"{issuer}/.well-known/{file}", f"{world.base_url}/.well-known/{file}/d/quillhaven"):
            assert patient.get(address).json() == metadata, "RFC 8414 sections 3.1 and 5"
    client = Roster(made["client_id"], name, made["client_secret"], issuer, metadata)
    with somebody(world) as http:
        # Whoever made it chose all that is said of it: it learns of nobody who was not asked.
        seen = asked_of(http, by_hand(client, scope="openid profile email")[0])
        assert (seen["asks"], seen["unlooked_at"], seen["publisher_vouched"], seen["policy_uri"]) == (
            True,
            True,
            False,
            "",
        )
        quiet = asked_of(http, by_hand(client, scope="openid", prompt="none")[0])
        assert members(quiet["redirect_to"])["error"] == "consent_required"
        with world.jamb("approver") as approver:
            approver.consent.grant(made["client_id"])
        seen = asked_of(http, by_hand(client, scope="openid profile email")[0])
        assert (seen["asks"], seen["unlooked_at"], seen["publisher_vouched"]) == (False, False, True)
        address, verifier = by_hand(client)
        token = redeemed(client, members(answered(http, address))["code"], verifier)
    assert "berths.assign" in token.json()["scope"].split()


def test_an_independent_library_registers_itself_and_signs_somebody_in(world: World, access: InitialAccess) -> None:
    itself = Roster("", "", "", f"{world.base_url}/d/quillhaven", {})
    scope = "openid profile offline_access"
    with somebody(world) as http:
        _, done = by_library(http, itself, "openid-client", scope, ASKED="plainly", INITIAL_ACCESS=access.token)
        who = http.get("/api/v1/session").raise_for_status().json()["person"]
    assert done["sub"] == who["id"]
    assert done["active"] is True
    assert done["refused"] == "invalid_grant"


def test_a_draft_changes_itself_until_it_is_given_something(world: World, access: InitialAccess) -> None:
    made = sent(
        world, access.token, client_name=unique("Mover"), redirect_uris=[BACK], scope="berths.assign berths.view"
    ).json()
    other = "https://other.quillhaven.example/back"
    said = {"client_id": made["client_id"], "client_secret": made["client_secret"], "client_name": made["client_name"]}
    changed = managed(made, "PUT", **said, redirect_uris=[other], scope="berths.view")
    assert changed.status_code == 200, changed.text
    assert changed.json()["redirect_uris"] == [other]
    assert "berths.assign" not in changed.json()["scope"].split()
    assert "client_secret" not in changed.json()
    assert managed(made, "GET").json() == changed.json()
    # What is another's, or would make another client of it, is refused, and nothing is changed.
    for wrong in (
        {**said, "client_id": "c-0000"},
        {**said, "client_secret": "jamb_s1_wrong"},
        {**said, "token_endpoint_auth_method": "none"},
        {**said, "redirect_uris": ["http://elsewhere.example/"]},
        {**said, "scope": "berths.sink"},
    ):
        refused = managed(made, "PUT", **{"redirect_uris": [BACK], **wrong})
        assert refused.status_code == 400, wrong
        assert refused.json()["error"] in {"invalid_client_metadata", "invalid_redirect_uri"}
    assert managed(made, "GET").json() == changed.json()
    with world.jamb() as owner, world.jamb("approver") as approver:
        request = owner.requests.make(made["client_id"], "The board needs it")
        # Who decides sees what it is now: it does not become another meanwhile.
        waiting = managed(made, "PUT", **said, redirect_uris=["https://thief.example/"], scope="berths.view")
        assert (waiting.status_code, waiting.json()["error"]) == (403, "access_denied")
        approver.requests.grant(request.id)
    # Whoever has the token could otherwise send what people allow to an address of theirs.
    late = managed(made, "PUT", **said, redirect_uris=["https://thief.example/"], scope="berths.view")
    assert (late.status_code, late.json()["error"]) == (403, "access_denied")
    assert managed(made, "GET").json()["redirect_uris"] == [other]


def test_a_client_that_leaves_is_let_in_nowhere(world: World, access: InitialAccess) -> None:
    made = sent(world, access.token, client_name=unique("Leaver"), grant_types=["client_credentials"]).json()
    assert managed(made, "DELETE").status_code == 204
    assert managed(made, "GET").status_code == 401
    issuer = f"{world.base_url}/d/quillhaven"
    form = {"grant_type": "client_credentials", "resource": "jamb"}
    refused = patient.post(f"{issuer}/token", data=form, auth=(made["client_id"], made["client_secret"]))
    assert refused.json()["error"] == "invalid_client"
    with world.jamb() as steward:
        seen = steward.clients.read(made["client_id"])
    assert seen.client.state == "disabled"
    assert [one.state for one in seen.credentials] == ["withdrawn"]


@pytest.mark.parametrize(
    ("metadata", "kind"),
    [
        ({"grant_types": ["client_credentials"]}, "service"),
        ({"redirect_uris": [BACK], "token_endpoint_auth_method": "none"}, "browser"),
        (
            {
                "redirect_uris": ["http://127.0.0.1/back"],
                "token_endpoint_auth_method": "none",
                "application_type": "native",
                "grant_types": ["authorization_code", "refresh_token"],
            },
            "native",
        ),
        (
            {
                "token_endpoint_auth_method": "none",
                "grant_types": ["urn:ietf:params:oauth:grant-type:device_code"],
                "response_types": [],
            },
            "device",
        ),
    ],
)
def test_the_kind_follows_from_what_is_said(
    world: World, access: InitialAccess, metadata: dict[str, Any], kind: str
) -> None:
    answer = sent(world, access.token, client_name=unique("Kind"), **metadata)
    assert answer.status_code == 201, answer.text
    with world.jamb() as steward:
        assert steward.clients.read(answer.json()["client_id"]).client.kind == kind
    assert ("client_secret" in answer.json()) is (kind == "service")


@pytest.mark.parametrize(
    "metadata",
    [
        {"grant_types": ["implicit"]},
        {"response_types": ["token"], "redirect_uris": [BACK]},
        {"redirect_uris": ["https://a.example/#part"]},
        {"redirect_uris": "https://a.example/"},
        {"token_endpoint_auth_method": "client_secret_jwt"},
        {"token_endpoint_auth_method": "private_key_jwt", "redirect_uris": [BACK]},
        {"redirect_uris": [BACK], "jwks": {"keys": []}, "jwks_uri": "https://a.example/keys"},
        {"redirect_uris": [BACK], "scope": "registry.write everything"},
        {"redirect_uris": [BACK], "id_token_signed_response_alg": "none"},
        {"redirect_uris": [BACK], "client_name": "two\nlines"},
        {"redirect_uris": [BACK], "policy_uri": "javascript:alert(1)"},
    ],
)
def test_what_cannot_be_registered_is_said_and_counts_for_nothing(
    world: World, access: InitialAccess, metadata: dict[str, Any]
) -> None:
    refused = sent(world, access.token, **metadata)
    assert refused.status_code == 400, refused.text
    assert refused.json()["error"] in {"invalid_client_metadata", "invalid_redirect_uri"}
    assert len(refused.json()["error_description"]) > 20
    with world.jamb() as owner:
        assert next(one for one in owner.initial_access.list() if one.id == access.id).used == 0


def test_a_token_registers_as_many_as_it_says_while_it_is_open(world: World) -> None:
    with world.jamb() as owner:
        made = owner.initial_access.make(unique("Once"), uses=1, days=1)
        assert made.token
        assert next(one for one in owner.initial_access.list() if one.id == made.id).token == ""

    async def race() -> list[int]:
        async with httpx.AsyncClient(timeout=60) as http:
            bearer = {"Authorization": f"Bearer {made.token}"}
            at = endpoint(world)
            body = {"client_name": unique("Racer"), "grant_types": ["client_credentials"]}
            answers = await asyncio.gather(*(http.post(at, json=body, headers=bearer) for _ in range(6)))
            return sorted(one.status_code for one in answers)

    assert in_own_loop(race()) == [201, 401, 401, 401, 401, 401]
    with world.jamb() as owner, pytest.raises(Conflict, match="used up"):
        owner.initial_access.withdraw(made.id)
    with world.jamb() as owner, pytest.raises(BadInput):
        owner.initial_access.make("Forever", days=1000)
    for wrong in (made.token[:-1] + ("A" if made.token[-1] != "A" else "B"), "nothing", f"{made.id}.", "x" * 5000):
        refused = sent(world, wrong, client_name="Stranger", grant_types=["client_credentials"])
        assert refused.status_code == 401
        assert refused.headers["www-authenticate"].startswith("Bearer")
    # One client's token is no other's, and none of Jamb's own API.
    other = patient.get(
        f"{world.base_url}/api/v1/directories/quillhaven/clients", headers={"Authorization": f"Bearer {made.token}"}
    )
    assert other.status_code == 401


def test_two_of_one_name_are_told_apart(world: World, access: InitialAccess) -> None:
    name = unique("Twin")
    first, second = (
        sent(world, access.token, client_name=name, grant_types=["client_credentials"]).json()["client_name"]
        for _ in "ab"
    )
    assert first == name
    assert second.startswith(name)
    assert second != name


def test_a_key_is_registered_and_replaced(world: World, access: InitialAccess) -> None:
    def key() -> dict[str, Any]:
        return {**jwk_of(ec.generate_private_key(ec.SECP256R1()).public_key()), "kid": unique("k")}

    old, new = key(), key()
    made = sent(
        world,
        access.token,
        client_name=unique("Keyed"),
        grant_types=["client_credentials"],
        token_endpoint_auth_method="private_key_jwt",
        jwks={"keys": [old]},
    ).json()
    assert made["jwks"]["keys"][0]["kid"] == old["kid"]
    said = {name: made[name] for name in ("client_id", "client_name", "grant_types", "token_endpoint_auth_method")}
    changed = managed(made, "PUT", **{**said, "grant_types": ["client_credentials"]}, jwks={"keys": [new]})
    assert changed.status_code == 200, changed.text
    with world.jamb() as steward:
        states = sorted(one.state for one in steward.clients.read(made["client_id"]).credentials)
    assert states == ["live", "withdrawn"]


def test_whoever_may_not_register_lets_no_software_do_it(world: World) -> None:
    with world.jamb("auditor") as auditor:
        auditor.initial_access.list()
        with pytest.raises(Forbidden):
            auditor.initial_access.make("Mine")


def test_a_registrar_makes_and_withdraws_one_by_command_line(world: World, tmp_path: Path) -> None:
    shell, label = Shell(world, tmp_path).signed_in("registrar"), unique("Robots")
    made = shell("initial-access", "make", label, "--uses", "2", "-o", "json").json()
    assert sent(world, made["token"], client_name=label, grant_types=["client_credentials"]).status_code == 201
    listed = next(one for one in shell("initial-access", "list", "-o", "json").json() if one["id"] == made["id"])
    assert (listed["used"], listed["uses"], listed["token"]) == (1, 2, "")
    assert shell("initial-access", "withdraw", made["id"]).code == 0
    assert sent(world, made["token"], client_name=label, grant_types=["client_credentials"]).status_code == 401
