"""A client acts for a person: independent client libraries do the code flow with nothing but the issuer's address."""

from __future__ import annotations

import base64
import hashlib
import json
import secrets
import socket
import subprocess
import threading
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack
from datetime import UTC, datetime, timedelta
from typing import Any
from urllib.parse import urlsplit

import httpx
import jwt
import pytest
from authlib.integrations.httpx_client import OAuth2Client
from requests_oauthlib import OAuth2Session

from jamb.client import (
    BadInput,
    Conflict,
    NotSignedIn,
    ServiceUnreachable,
    sign_in_by_browser,
    sign_in_by_device,
)
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import ReachKind
from jamb.core.tries import REFRESHED
from jamb.wire.consent.consent import Terms
from jamb.wire.directory.roles import RoleSent
from jamb.wire.resources.reach import ReachSent
from tests import patient
from tests.service.entry.roster import (
    BACK,
    HERE,
    WHO,
    Roster,
    answered,
    asked_of,
    by_hand,
    by_library,
    introspected,
    made,
    members,
    redeemed,
    refreshed,
    somebody,
)
from tests.world import BERTHS, World, add_person, choose_password, unique, wait_until


def test_one_library_discovers_signs_in_refreshes_and_gives_back(world: World, roster: Roster) -> None:
    found = roster.metadata
    with (
        OAuth2Client(
            roster.id,
            roster.secret,
            redirect_uri=BACK,
            scope="openid profile email offline_access berths.assign",
            code_challenge_method="S256",
            timeout=60,
        ) as client,
        somebody(world) as http,
    ):
        verifier, nonce = secrets.token_urlsafe(48), secrets.token_urlsafe(16)
        address, state = client.create_authorization_url(
            found["authorization_endpoint"], code_verifier=verifier, nonce=nonce
        )
        back = answered(http, address)
        assert members(back)["iss"] == roster.issuer, "RFC 9207"
        token = client.fetch_token(
            found["token_endpoint"], authorization_response=back, code_verifier=verifier, state=state
        )
        keys = jwt.PyJWKClient(found["jwks_uri"])
        told = jwt.decode(
            token["id_token"],
            keys.get_signing_key_from_jwt(token["id_token"]),
            # What a client expects that was told of no other (OpenID Connect Core section 2).
            algorithms=["RS256"],
            audience=roster.id,
            issuer=roster.issuer,
        )
        assert told["nonce"] == nonce
        assert "RS256" in found["id_token_signing_alg_values_supported"], "Discovery section 3"
        half = hashlib.sha256(token["access_token"].encode()).digest()[:16]
        assert told["at_hash"] == base64.urlsafe_b64encode(half).rstrip(b"=").decode()
        who = client.get(found["userinfo_endpoint"]).raise_for_status().json()
        assert (who["sub"], who["email"], who["name"]) == (told["sub"], world.person(WHO)["login"], "Oskar Pell")
        wait_until(lambda: world.call_berths(token["access_token"]).status_code == 200)
        fresh = client.refresh_token(found["token_endpoint"], refresh_token=token["refresh_token"])
        assert fresh["refresh_token"] != token["refresh_token"]
        assert "id_token" not in fresh, "it tells of the sign-in, and came with it (section 12.2)"
        assert world.call_berths(fresh["access_token"]).status_code == 200
        asked = client.introspect_token(found["introspection_endpoint"], token=fresh["access_token"]).json()
        assert (asked["active"], asked["client_id"], asked["sub"]) == (True, roster.id, told["sub"])
        assert client.revoke_token(found["revocation_endpoint"], token=fresh["refresh_token"]).status_code == 200
        assert client.introspect_token(found["introspection_endpoint"], token=fresh["access_token"]).json() == {
            "active": False
        }
        assert refreshed(roster, fresh["refresh_token"]).json()["error"] == "invalid_grant"
        wait_until(lambda: world.call_berths(fresh["access_token"]).status_code == 401)


def test_another_library_does_the_same_for_a_public_client(world: World, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("OAUTHLIB_INSECURE_TRANSPORT", "1")
    monkeypatch.setenv("OAUTHLIB_RELAX_TOKEN_SCOPE", "1")
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.view"])
    # RFC 8252 section 7.3: it listens on whichever port is free.
    there = "http://127.0.0.1:51234/back"
    scope = ["openid", "offline_access", "berths.view"]
    with OAuth2Session(native.id, redirect_uri=there, scope=scope, pkce="S256") as client, somebody(world) as http:
        address, _ = client.authorization_url(native.metadata["authorization_endpoint"])
        token = client.fetch_token(
            native.metadata["token_endpoint"], authorization_response=answered(http, address), include_client_id=True
        )
        assert world.call_berths(token["access_token"]).status_code == 200
        fresh = client.refresh_token(native.metadata["token_endpoint"], client_id=native.id)
        assert fresh["refresh_token"] != token["refresh_token"]
        with_secret = patient.post(
            native.metadata["token_endpoint"],
            data={
                "grant_type": "refresh_token",
                "refresh_token": fresh["refresh_token"],
                "client_id": native.id,
                "client_secret": "x",
            },
        )
        assert (with_secret.status_code, with_secret.json()["error"]) == (401, "invalid_client")


@pytest.mark.parametrize(
    ("library", "kind"), [("openid-client", "web"), ("openid-client", "browser"), ("simple-oauth2", "web")]
)
def test_libraries_of_another_language_do_the_same(world: World, library: str, kind: str) -> None:
    client = made(world, kind, [BACK], ["berths.view"])
    with somebody(world) as http:
        _, done = by_library(http, client, library, "openid profile offline_access berths.view", ASKED="plainly")
    assert done["refused"] == "invalid_grant", "what was given back has ended"
    assert done["scope"].split() == ["berths.view", "offline_access", "openid", "profile"]
    if library == "openid-client":
        assert (done["name"], done["active"]) == ("Oskar Pell", True)
        led = urlsplit(patient.get(done["out"], follow_redirects=False).headers["location"])
        looked = patient.post(f"{world.base_url}/api/v1/sign-outs/lookup", json={"request": led.fragment})
        assert (led.path, looked.json()["client_name"]) == ("/sign-out", client.name)


def test_a_token_opens_what_both_may_and_acts_at_once_on_what_is_taken_away(world: World, roster: Roster) -> None:
    """The client may assign; so long as the person may only look, neither may it."""
    with somebody(world, "lotte") as http, world.jamb() as steward:
        address, verifier = by_hand(roster, scope="openid offline_access berths.assign")
        page = asked_of(http, address)
        assert [one["permission"] for one in page["not_theirs"]] == ["berths.assign"], "they have no role at Berths"
        person = world.person("lotte")["login"]
        world.agreed(lambda: steward.roles.assign("lookout", HolderKind.PERSON, [person]))
        try:
            token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
            claims = jwt.decode(token["access_token"], options={"verify_signature": False})
            assert claims["scope"].split() == ["berths.view", "offline_access", "openid"]
            assert (claims["aud"], claims["client_id"]) == (BERTHS, roster.id)
            assert claims["sub"] != roster.id
            held = token["access_token"]
            assert world.call_berths(held).status_code == 200
            assert world.call_berths(held, "/berths/north-11/occupant", "PUT").status_code == 403
            assert introspected(roster, held)["active"] is True
        finally:
            steward.roles.withdraw("lookout", HolderKind.PERSON, [person])
        assert introspected(roster, held) == {"active": False}, "an API that asks is told what a guard knows"
        wait_until(lambda: world.call_berths(held).status_code == 401)
        fresh = refreshed(roster, token["refresh_token"]).raise_for_status().json()
        assert fresh["scope"].split() == ["offline_access", "openid"]


def test_a_client_may_be_for_people_of_some_groups_alone(world: World, roster: Roster) -> None:
    """Whoever is outside reads why and whom to ask; what they had ends within seconds."""
    group, pia = unique("watch").replace(" ", "-"), world.person("pia")["login"]
    with world.jamb() as steward, somebody(world, "pia") as http, somebody(world) as oskar:
        steward.groups.save(group, title="Watch of a test", people=[pia])
        address, verifier = by_hand(roster, scope="openid offline_access berths.assign")
        theirs = redeemed(roster, members(answered(oskar, address))["code"], verifier).raise_for_status().json()
        assert world.call_berths(theirs["access_token"]).status_code == 200
        with pytest.raises(BadInput, match="groups of this directory"):
            steward.clients.change(roster.id, sign_in_groups=["no-such-group"])
        with pytest.raises(BadInput) as service:
            steward.clients.change(world.client(secret=False).id, sign_in_groups=[group])
        assert [one.allowed for one in service.value.violations] == ["none: nobody signs in to a service"]
        assert steward.clients.change(roster.id, sign_in_groups=[group]).sign_in_groups == [group]
        wait_until(lambda: world.call_berths(theirs["access_token"]).status_code == 401)
        assert refreshed(roster, theirs["refresh_token"]).json()["error"] == "invalid_grant"
        fragment = urlsplit(httpx.get(address, follow_redirects=False, timeout=60).headers["location"]).fragment
        outside = oskar.post("/api/v1/authorizations/lookup", json={"request": fragment})
        assert (outside.status_code, outside.json()["type"]) == (403, "urn:jamb:problem:not-admitted")
        assert ("Watch of a test" in outside.json()["detail"], "Oskar Pell" in outside.json()["next_step"]) == (
            True,
            True,
        )
        allow = {"request": fragment, "allow": True, "permissions": []}
        assert oskar.post("/api/v1/authorizations/decision", json=allow).status_code == 403, "nor by asking for it"
        back = oskar.post("/api/v1/authorizations/decision", json=allow | {"allow": False}).json()["redirect_to"]
        assert members(back)["error"] == "access_denied"
        quiet = answered(oskar, by_hand(roster, prompt="none", scope="openid")[0])
        assert members(quiet)["error"] == "access_denied"
        address, verifier = by_hand(roster, scope="openid offline_access")
        hers = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
        fresh = refreshed(roster, hers["refresh_token"]).raise_for_status().json()
        with pytest.raises(Conflict, match=roster.name):
            steward.groups.remove(group)
        steward.groups.save(group, title="Watch of a test", people=[])
        gone = refreshed(roster, fresh["refresh_token"])
        assert (gone.status_code, gone.json()["error"]) == (400, "invalid_grant")
        steward.clients.change(roster.id, sign_in_groups=[])
        steward.groups.remove(group)
    assert "not-admitted" in {one["outcome"] for one in world.failures(roster.id)}


def test_a_person_allows_what_is_theirs_to_allow_sees_it_and_ends_it(world: World) -> None:
    page = made(world, "browser", [BACK], ["berths.view", "berths.manage"], granted=False)
    with world.jamb() as steward, somebody(world, "pia") as http:
        address, verifier = by_hand(page, scope="openid profile offline_access berths.view berths.manage")
        shown = asked_of(http, address)
        assert [one["permission"] for one in shown["to_allow"]] == ["berths.view"]
        assert shown["to_allow"][0]["text"] == "See which ship lies where, as you do."
        assert [one["permission"] for one in shown["for_administrator"] + shown["not_theirs"]] == ["berths.manage"]
        assert (shown["client_name"], shown["about"], shown["stays"], shown["asks"]) == (
            page.name,
            ["profile"],
            True,
            True,
        )
        assert members(answered(http, address, allow=False))["error"] == "access_denied"
        # What is not theirs to allow is not had by sending its name.
        back = answered(http, address, permissions=["berths.view", "berths.manage"])
        token = redeemed(page, members(back)["code"], verifier).raise_for_status().json()
        assert token["scope"].split() == ["berths.view", "offline_access", "openid", "profile"]
        (kept,) = [one for one in steward.consent.list(page.id) if one.permission == "berths.view"]
        assert (kept.person, kept.by_person) == ("Pia Nowicki", True)
        assert asked_of(http, by_hand(page, scope="openid berths.view")[0])["asks"] is False, "asked once"
        assert world.call_berths(token["access_token"]).status_code == 200
        (mine,) = [one for one in http.get("/api/v1/session/authorizations").json() if one["client_id"] == page.id]
        assert [one["title"] for one in mine["permissions"]] == ["See berths"]
        with somebody(world) as other:
            assert other.delete(f"/api/v1/session/authorizations/{mine['id']}").status_code == 404
        assert http.delete(f"/api/v1/session/authorizations/{mine['id']}").status_code == 204
        wait_until(lambda: world.call_berths(token["access_token"]).status_code == 401)
        assert refreshed(page, token["refresh_token"]).json()["error"] == "invalid_grant"
        assert next(iter(steward.ledger.list(client=page.id))).action == "access.ended"


# Attacks (RFC 9700 section 4, RFC 6819)


def test_a_code_counts_once_for_its_client_its_verifier_and_its_address(world: World, roster: Roster) -> None:
    other = made(world, "web", [BACK], ["berths.assign"])
    with somebody(world) as http:
        address, verifier = by_hand(roster, scope="openid offline_access berths.assign")
        code = members(answered(http, address))["code"]
        for refused in (
            redeemed(other, code, verifier),
            redeemed(roster, code, secrets.token_urlsafe(48)),
            redeemed(roster, code, "short"),
            redeemed(roster, code, verifier, redirect_uri=BACK + "/"),
            redeemed(roster, code[:-1], verifier),
        ):
            assert (refused.status_code, refused.json()["error"]) == (400, "invalid_grant"), refused.text
        first = redeemed(roster, code, verifier).raise_for_status().json()
        again = redeemed(roster, code, verifier)
        assert (again.status_code, again.json()["error"]) == (400, "invalid_grant")
        assert refreshed(roster, first["refresh_token"]).status_code == 400, "what was issued for it has ended"
        wait_until(lambda: world.call_berths(first["access_token"]).status_code == 401)
    outcomes = {one["outcome"] for one in world.failures(roster.id)}
    assert {"verifier-wrong", "redirect-differs", "code-unknown", "code-replayed"} <= outcomes


def test_a_refresh_token_that_comes_twice_ends_all_but_at_once_it_is_a_lost_answer(
    world: World, roster: Roster
) -> None:
    with somebody(world) as http:
        address, verifier = by_hand(roster, scope="openid offline_access berths.assign")
        first = (
            redeemed(roster, members(answered(http, address))["code"], verifier)
            .raise_for_status()
            .json()["refresh_token"]
        )
    assert refreshed(roster, first, scope="openid berths.manage").json()["error"] == "invalid_scope"
    second = refreshed(roster, first).raise_for_status().json()["refresh_token"]
    assert refreshed(roster, first).status_code == 200, "its answer was lost"
    with world.database() as database:
        database.execute("update refresh_token set used_at = used_at - interval '11 seconds' where used_at is not null")
    assert refreshed(roster, first).json()["error"] == "invalid_grant"
    assert refreshed(roster, second).json()["error"] == "invalid_grant", "one of two who have it is not the client"
    assert "refresh-replayed" in {one["outcome"] for one in world.failures(roster.id)}


def test_a_token_of_the_second_in_which_another_ended_is_good_at_once(world: World, roster: Roster) -> None:
    """It says the next second, so as not to be taken for one of those that ended."""
    with somebody(world) as http:
        for _ in range(3):
            address, verifier = by_hand(roster, scope="openid offline_access berths.assign")
            token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
            bearer = {"Authorization": f"Bearer {token['access_token']}"}
            assert patient.get(roster.metadata["userinfo_endpoint"], headers=bearer).status_code == 200
            assert introspected(roster, token["access_token"])["active"] is True
            form = {"token": token["refresh_token"], "client_id": roster.id, "client_secret": roster.secret}
            assert patient.post(roster.metadata["revocation_endpoint"], data=form).status_code == 200
    held = world.demo["automation"]
    own = f"{world.base_url}/api/v1/directories/{held['directory']}"
    with world.jamb("steward", held["directory"]) as steward:
        steward.clients.revoke_tokens(held["client_id"])
        form = {"grant_type": "client_credentials", "resource": own, "client_id": held["client_id"]}
        form["client_secret"] = held["client_secret"]
        fetched = patient.post(world.token_endpoint(held["directory"]), data=form).raise_for_status().json()
        bearer = {"Authorization": f"Bearer {fetched['access_token']}"}
        assert patient.get(f"{own}/clients", headers=bearer).status_code == 200


def test_a_new_password_ends_what_came_of_the_old_one(world: World, roster: Roster) -> None:
    """RFC 6819 section 5.1.5.3: whoever knew it may have let an application of theirs in."""
    login, first, second = f"{secrets.token_hex(4)}@quillhaven.example", "the first of two of them", "and another one"
    scope = "openid offline_access"

    def let_in(password: str) -> str:
        with httpx.Client(base_url=world.base_url, timeout=60) as http:
            signed_in = http.post("/api/v1/session", json={"login": login, "password": password}).raise_for_status()
            http.headers["X-Jamb-CSRF"] = signed_in.json()["csrf"]
            address, verifier = by_hand(roster, scope=scope)
            token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
            return str(token["refresh_token"])

    with world.jamb() as steward:
        add_person(steward, login, unique("Somebody"), first)
        held = let_in(first)
        choose_password(steward.people.link(login).link, second)
        refused = refreshed(roster, held)
        assert (refused.status_code, "new password" in refused.json()["error_description"]) == (400, True)
        held = let_in(second)
        for active in (False, True):
            world.agreed(lambda active=active: steward.people.change(login, active=active))
        assert refreshed(roster, held).status_code == 400, "it does not come back with them"


def test_a_trial_is_for_some_people_until_its_end(world: World) -> None:
    client = made(world, "web", [BACK], ["berths.view"])
    with world.jamb() as steward, somebody(world) as http:
        ends = datetime.now(UTC) + timedelta(seconds=6)
        steward.clients.change(client.id, trial_ends_at=ends)
        address, verifier = by_hand(client, scope="openid offline_access berths.view")
        token = redeemed(client, members(answered(http, address))["code"], verifier).raise_for_status().json()
        token = refreshed(client, token["refresh_token"]).raise_for_status().json()
        wait_until(lambda: datetime.now(UTC) > ends)
        gone = refreshed(client, token["refresh_token"])
        assert (gone.status_code, gone.json()["error"]) == (400, "invalid_grant")
        fragment = urlsplit(httpx.get(address, follow_redirects=False, timeout=60).headers["location"]).fragment
        outside = http.post("/api/v1/authorizations/lookup", json={"request": fragment})
        assert (outside.status_code, outside.json()["type"]) == (403, "urn:jamb:problem:not-admitted")
        assert f"on trial until {ends:%Y-%m-%d}" in outside.json()["detail"]
        login = world.person(WHO)["login"]
        why = steward.clients.explain(client.id, "berths", "berths.list", kind=AccessKind.DELEGATED, person=login)
        assert why.allowed is False
        assert [step.kind for step in why.steps] == ["end-trial"]
        assert introspected(client, token["access_token"])["active"] is False, "what was allowed has ended"
        steward.clients.change(client.id, no_trial=True)
        assert members(answered(http, address))["code"]


def test_the_quick_way_and_the_tables_come_to_the_same(world: World) -> None:
    """A refresh token is read in one statement; the same token again, within the grace, by the tables."""
    inner, group, role = (unique(name).replace(" ", "-") for name in ("inner", "outer", "mail-reader"))
    mailboxes = ReachSent(kind=ReachKind.ONLY, collections=["office/claims", "office/invoices"])
    but_invoices = ReachSent(kind=ReachKind.ALL_BUT, collections=["office/invoices"])
    client = made(world, "web", [BACK], [])
    with world.jamb() as steward, world.jamb("approver") as approver, somebody(world, "pia") as http:
        steward.asks.add(client.id, "dispatches", ["dispatches.read"], kind=AccessKind.DELEGATED)
        approver.consent.grant(client.id, terms=Terms(reach={"dispatches": mailboxes}))
        bundle = RoleSent(title="Reads", resource="dispatches", permissions=["dispatches.read", "dispatches.send"])
        steward.roles.save(role, bundle)
        steward.groups.save(inner, title="Inner", people=[world.person("pia")["login"]])
        steward.groups.save(group, title="Outer", groups=[inner])
        world.agreed(lambda: steward.roles.assign(role, HolderKind.GROUP, [group], reach=but_invoices))
        scope = "openid email offline_access dispatches.read"
        address, verifier = by_hand(client, scope=scope, claims='{"id_token": {"name": null}}')
        token = redeemed(client, members(answered(http, address))["code"], verifier).raise_for_status().json()
        for narrower in ({}, {"scope": "openid"}, {"scope": "dispatches.read"}):
            quick, tables = (
                refreshed(client, token["refresh_token"], **narrower).raise_for_status().json() for _ in "ab"
            )
            assert quick["refresh_token"] != tables["refresh_token"]
            first, again = (claims_in(one["access_token"]) for one in (quick, tables))
            for name in ("scope", "aud", "sub", "sid", "authorization_details"):
                assert first.get(name) == again.get(name), name
            if "dispatches.read" in first["scope"]:
                (detail,) = first["authorization_details"]
                assert detail["only"] == ["office/claims"]
            told = [claims_in(one["id_token"]).get("name") for one in (quick, tables) if "id_token" in one]
            assert set(told) <= {"Pia Nowicki"}
            token = quick
        steward.groups.save(inner, title="Inner", people=[])
        gone = claims_in(refreshed(client, token["refresh_token"]).raise_for_status().json()["access_token"])
        assert gone["scope"].split() == ["email", "offline_access", "openid"]


OF_CLIENT = "update client set {} where id = %(client)s"
OF_SECRET = "update credential set {} where client_id = %(client)s"
OF_SIGN_IN = "update person_authorization set {} where client_id = %(client)s"
# What stands against a refresh, and what undoes it.
AGAINST = {
    "a secret that expired": (
        OF_SECRET,
        "expires_at = now() - interval '1 second'",
        "expires_at = now() + interval '9 days'",
    ),
    "a secret that was withdrawn": (OF_SECRET, "withdrawn_at = now()", "withdrawn_at = null"),
    "a secret that is disabled": (OF_SECRET, "disabled_at = now()", "disabled_at = null"),
    "a client that is disabled": (OF_CLIENT, "state = 'disabled'", "state = 'live'"),
    "a client that does not refresh": (OF_CLIENT, "grant_types = '{authorization_code}'", "grant_types = '{}'"),
    "another key": (OF_SIGN_IN, "bound_to = 'another'", "bound_to = ''"),
}
OTHERWISE = {
    "another secret": {"client_secret": "jamb_of_nobody"},
    "no secret": {"client_secret": ""},
    "another client": {"client_id": "somebody-else"},
    "more than was allowed": {"scope": "openid berths.manage"},
    "another resource": {"resource": "https://elsewhere.quillhaven.example"},
}


def test_a_refresh_that_is_refused_uses_nothing_up(world: World, roster: Roster) -> None:
    with somebody(world) as http, world.database() as database:
        address, verifier = by_hand(roster, scope="openid offline_access")
        token = redeemed(roster, members(answered(http, address))["code"], verifier).json()["refresh_token"]
        before = kept(world, roster)
        for what, (of, against, undone) in AGAINST.items():
            database.execute(of.format(against), {"client": roster.id})
            assert refreshed(roster, token).status_code in {400, 401}, what
            assert kept(world, roster) == before, what
            database.execute(of.format(undone), {"client": roster.id})
        for what, sent in OTHERWISE.items():
            assert refreshed(roster, token, **sent).status_code in {400, 401}, what
            assert kept(world, roster) == before, what
    assert refreshed(roster, token).is_success
    assert kept(world, roster) != before


def kept(world: World, roster: Roster) -> list[tuple[Any, ...]]:
    """The refresh tokens of a client, and when each was used."""
    of = "select digest, used_at from refresh_token join person_authorization access on access.id = authorization_id"
    with world.database() as database:
        return database.execute(f"{of} where client_id = %s order by digest", [roster.id]).fetchall()


def claims_in(token: str) -> dict[str, Any]:
    found: dict[str, Any] = jwt.decode(token, options={"verify_signature": False})
    return found


def test_of_many_who_refresh_at_once_each_is_answered_and_one_family_stays(world: World, roster: Roster) -> None:
    with somebody(world) as http:
        address, verifier = by_hand(roster, scope="openid offline_access")
        token = redeemed(roster, members(answered(http, address))["code"], verifier).json()["refresh_token"]
    with ThreadPoolExecutor(8) as pool:
        answers = list(pool.map(lambda _: refreshed(roster, token), range(8)))
    # Within the grace of a lost answer all are one client's, and each has a token of its own.
    assert [one.status_code for one in answers] == [200] * 8
    assert len({one.json()["refresh_token"] for one in answers}) == 8


def test_a_client_that_refreshes_without_end_is_told_to_wait(world: World, roster: Roster) -> None:
    with somebody(world) as http:
        address, verifier = by_hand(roster, scope="openid offline_access")
        token = redeemed(roster, members(answered(http, address))["code"], verifier).json()["refresh_token"]
    for _ in range(REFRESHED.most):
        token = refreshed(roster, token).raise_for_status().json()["refresh_token"]
    turned_away = refreshed(roster, token)
    assert (turned_away.status_code, turned_away.json()["error"]) == (429, "temporarily_unavailable")
    assert int(turned_away.headers["Retry-After"]) > 0
    with world.database() as database:
        database.execute("update refresh_token set created_at = created_at - interval '10 minutes'")
    assert refreshed(roster, token).is_success, "nothing of it was lost"


def test_what_changed_while_a_person_decides_counts(world: World) -> None:
    page = made(world, "browser", [BACK], ["berths.view"], granted=False)
    with world.jamb() as steward, somebody(world, "pia") as http:

        def decided(request: str, allow: bool = True) -> httpx.Response:
            body = {"request": request, "allow": allow, "permissions": ["berths.view"] if allow else []}
            return http.post("/api/v1/authorizations/decision", json=body)

        led = httpx.get(by_hand(page, scope="berths.view")[0], follow_redirects=False, timeout=60)
        request = urlsplit(led.headers["location"]).fragment
        world.agreed(lambda: steward.clients.change(page.id, redirect_uris=[BACK + "/new"]))
        for allow in (True, False):
            assert (decided(request, allow).status_code, "not registered" in decided(request, allow).text) == (
                403,
                True,
            )
        world.agreed(lambda: steward.clients.change(page.id, redirect_uris=[BACK]))
        steward.clients.disable(page.id)
        assert decided(request).status_code == 403
        assert steward.consent.list(page.id) == [], "nothing is consented to for what is not live"
        steward.clients.enable(page.id)
        assert "code" in members(decided(request).raise_for_status().json()["redirect_to"])


def test_who_can_be_anybody_on_the_persons_machine_is_not_let_in_unasked(world: World) -> None:
    """RFC 8252 section 8.6."""
    native = made(world, "native", ["http://127.0.0.1/back", BACK], ["berths.view"])
    with somebody(world) as http:
        for there, asks in (("http://127.0.0.1:4444/back", True), (BACK, False)):
            assert asked_of(http, by_hand(native, there, scope="berths.view")[0])["asks"] is asks
            quiet = asked_of(http, by_hand(native, there, scope="berths.view", prompt="none")[0])["redirect_to"]
            assert members(quiet).get("error") == ("interaction_required" if asks else None)


@pytest.mark.parametrize(
    "sent",
    [
        BACK + "/",
        BACK.replace("https", "http"),
        "https://evil.example/signed-in",
        BACK + "?x=1",
        "javascript:alert(1)",
        "",
    ],
)
def test_nobody_is_sent_to_an_address_that_is_not_registered(world: World, roster: Roster, sent: str) -> None:
    with_two = made(world, "web", [BACK, BACK + "/other"], [])
    with somebody(world) as http:
        address, _ = by_hand(with_two, redirect_uri=sent)
        led = httpx.get(address, follow_redirects=False, timeout=60)
        there = urlsplit(led.headers["location"])
        assert f"{there.scheme}://{there.netloc}{there.path}" == f"{world.base_url}/allow"
        looked = http.post("/api/v1/authorizations/lookup", json={"request": there.fragment})
        assert (looked.status_code, with_two.name in looked.json()["detail"]) == (422, True), looked.text
    (failed,) = [one for one in world.failures(with_two.id) if one["outcome"] == "not-answered"]
    assert "redirect_uri" in failed["detail"]


def test_a_request_is_answered_for_whom_it_was_asked_and_as_it_was_asked(world: World, roster: Roster) -> None:
    address, _ = by_hand(roster)
    fragment = urlsplit(httpx.get(address, follow_redirects=False, timeout=60).headers["location"]).fragment
    body = {"request": fragment, "allow": True, "permissions": []}
    assert patient.post(f"{world.base_url}/api/v1/authorizations/decision", json=body).status_code == 401
    with world.session("steward", "brisling") as stranger:
        assert stranger.post("/api/v1/authorizations/lookup", json={"request": fragment}).json()["sign_in"] == "needed"
        assert stranger.post("/api/v1/authorizations/decision", json=body).status_code == 403
    with somebody(world) as http:
        for altered in (fragment[:-2] + ("aa" if not fragment.endswith("aa") else "bb"), "A" * 40):
            assert http.post("/api/v1/authorizations/lookup", json={"request": altered}).status_code == 422
        no_token = httpx.Client(base_url=world.base_url, cookies=http.cookies, timeout=60)
        with no_token:
            assert no_token.post("/api/v1/authorizations/decision", json=body).status_code == 403, "another site's page"


def test_prompts_and_ages_are_kept(world: World, roster: Roster) -> None:
    nobody = httpx.Client(base_url=world.base_url, timeout=60)
    with nobody, somebody(world) as http:
        quiet, _ = by_hand(roster, prompt="none", scope="openid")
        assert members(asked_of(nobody, quiet)["redirect_to"])["error"] == "login_required"
        assert members(answered(http, quiet)).keys() == {"code", "state", "iss"}
        assert asked_of(http, by_hand(roster, prompt="login")[0])["sign_in"] == "again"
        assert asked_of(http, by_hand(roster, max_age="0")[0])["sign_in"] == "again"
        assert asked_of(http, by_hand(roster, max_age="600")[0])["sign_in"] == ""
        assert asked_of(http, by_hand(roster, prompt="consent")[0])["asks"] is True
    for wrong, error in (
        ({"scope": "openid no.such"}, "invalid_scope"),
        ({"code_challenge_method": "plain"}, "invalid_request"),
        ({"response_type": "token"}, "unsupported_response_type"),
        ({"resource": "https://nowhere.example"}, "invalid_target"),
        ({f"x{number}": "y" for number in range(40)}, "invalid_request"),
    ):
        led = httpx.get(by_hand(roster, **wrong)[0], follow_redirects=False, timeout=60)
        there = members(led.headers["location"])
        assert led.headers["location"].startswith(BACK + "?")
        assert (there["error"], there["state"], there["iss"]) == (error, "of this browser", roster.issuer)


def test_how_surely_and_who_is_asked_for_is_kept(world: World, roster: Roster) -> None:
    """`acr_values` and `id_token_hint` (OpenID Connect Core section 3.1.2.1, RFC 9470)."""
    known = roster.metadata["acr_values_supported"]
    with somebody(world) as http, somebody(world, "pia") as other:
        either, verifier = by_hand(roster, acr_values=" ".join(known))
        token = redeemed(roster, members(answered(http, either))["code"], verifier).raise_for_status().json()
        assert jwt.decode(token["id_token"], options={"verify_signature": False})["acr"] == "urn:jamb:acr:password"
        surely, _ = by_hand(roster, acr_values="urn:jamb:acr:second-factor")
        assert asked_of(http, surely)["sign_in"] == "factor"
        fragment = urlsplit(httpx.get(surely, follow_redirects=False, timeout=60).headers["location"]).fragment
        body = {"request": fragment, "allow": True, "permissions": []}
        assert http.post("/api/v1/authorizations/decision", json=body).status_code == 403
        quietly, _ = by_hand(roster, acr_values="urn:jamb:acr:second-factor", prompt="none")
        assert members(answered(http, quietly))["error"] == "unmet_authentication_requirements"
        hinted, _ = by_hand(roster, id_token_hint=token["id_token"])
        assert asked_of(http, hinted)["sign_in"] == ""
        assert asked_of(other, hinted)["sign_in"] == "needed"
    for hint in (token["access_token"], "x.y.z"):
        address, _ = by_hand(roster, id_token_hint=hint)
        led = httpx.get(address, follow_redirects=False, timeout=60).headers["location"]
        assert members(led)["error"] == "invalid_request"


def test_what_a_token_is_for_it_is_for_alone(world: World, roster: Roster) -> None:
    """Tokens of one kind are not taken for another, nor at another directory (RFC 8725, RFC 9700 section 4.9)."""
    with somebody(world) as http:
        address, verifier = by_hand(roster)
        token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
    userinfo, elsewhere = roster.metadata["userinfo_endpoint"], f"{world.base_url}/d/brisling/userinfo"
    for wrong, at in ((token["id_token"], userinfo), (token["access_token"], elsewhere), ("x", userinfo)):
        answer = patient.get(at, headers={"Authorization": f"Bearer {wrong}"})
        assert (answer.status_code, "Bearer" in answer.headers["WWW-Authenticate"]) == (401, True)
    assert world.call_berths(token["id_token"]).status_code == 401
    own = patient.get(f"{world.base_url}{HERE}/clients", headers={"Authorization": f"Bearer {token['access_token']}"})
    assert own.status_code == 401, "it is for Berths"
    assert "refresh_token" not in token, "nobody asked for access while they are away"
    machine = world.client(granted=["berths.view"])
    form = {"token": token["access_token"], "client_id": machine.id, "client_secret": machine.secret}
    assert patient.post(roster.metadata["introspection_endpoint"], data=form).json() == {"active": False}
    assert patient.post(roster.metadata["revocation_endpoint"], data=form).status_code == 200
    assert world.call_berths(token["access_token"]).status_code == 200, "another's is not ended"
    form["token"] = world.ask_token(machine).json()["access_token"]
    kept = patient.post(roster.metadata["revocation_endpoint"], data=form)
    assert (kept.status_code, kept.json()["error"]) == (400, "unsupported_token_type"), "nor is it said to be"


def test_userinfo_takes_a_token_in_a_form(world: World, roster: Roster) -> None:
    """RFC 6750 section 2.2: a bearer token in the body, never in two places and never in the address."""
    with somebody(world) as http:
        address, verifier = by_hand(roster)
        token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
    userinfo, form = roster.metadata["userinfo_endpoint"], {"access_token": token["access_token"]}
    bearer = {"Authorization": f"Bearer {token['access_token']}"}
    assert patient.post(userinfo, data=form).raise_for_status().json() == patient.post(userinfo, headers=bearer).json()
    both = patient.post(userinfo, data=form, headers=bearer)
    assert (both.status_code, both.json()["error"]) == (400, "invalid_request")
    assert both.headers["Access-Control-Allow-Origin"] == "*"
    assert patient.post(userinfo, data={"access_token": token["id_token"]}).json()["error"] == "invalid_token"
    for nothing in (patient.post(userinfo, data={"token": "x"}), patient.get(userinfo, params=form)):
        assert nothing.status_code == 401


def test_an_answer_about_a_token_is_signed_for_whoever_asks_where_that_is_wanted(world: World, roster: Roster) -> None:
    with somebody(world) as http:
        address, verifier = by_hand(roster)
        token = redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
    keys = jwt.PyJWKClient(roster.metadata["jwks_uri"])
    for sent, active in ((token["access_token"], True), ("no token", False)):
        form = {"token": sent, "client_id": roster.id, "client_secret": roster.secret}
        wanted = {"Accept": "application/token-introspection+jwt"}
        answer = patient.post(roster.metadata["introspection_endpoint"], data=form, headers=wanted)
        assert answer.headers["content-type"] == wanted["Accept"]
        assert jwt.get_unverified_header(answer.text)["typ"] == "token-introspection+jwt"
        key = keys.get_signing_key_from_jwt(answer.text)
        told = jwt.decode(answer.text, key, algorithms=["RS256"], audience=roster.id, issuer=roster.issuer)
        assert told["token_introspection"]["active"] is active
        # RFC 9701 section 8.1: it is no access token, for all that it is signed alike.
        assert world.call_berths(answer.text).status_code == 401


def test_a_page_of_the_clients_own_origin_alone_may_read_its_tokens(world: World) -> None:
    page, server = made(world, "browser", [BACK], []), made(world, "web", [BACK], [])
    ours = "https://roster.quillhaven.example"
    for client, origin, may in ((page, ours, True), (page, "https://evil.example", False), (server, ours, False)):
        form = {"grant_type": "authorization_code", "client_id": client.id, "code": "x", "code_verifier": "y" * 43}
        answer = patient.post(client.metadata["token_endpoint"], data=form, headers={"Origin": origin})
        assert answer.status_code in {400, 401}
        assert (answer.headers.get("Access-Control-Allow-Origin") == origin) is may, "the error is read, too"
    for public in (page.metadata["jwks_uri"], f"{page.issuer}/.well-known/openid-configuration"):
        assert patient.get(public).headers["Access-Control-Allow-Origin"] == "*"


def test_a_device_is_let_in_for_what_it_asks_and_no_more(world: World) -> None:
    """RFC 8628 with a resource and a scope: polled, decided on another screen, refreshed."""
    device = made(world, "device", [], ["berths.view", "berths.manage"], granted=False)
    ask = {"client_id": device.id, "scope": "openid offline_access berths.view berths.manage"}
    shown = patient.post(device.metadata["device_authorization_endpoint"], data=ask).raise_for_status().json()
    form = {"grant_type": "urn:ietf:params:oauth:grant-type:device_code", "client_id": device.id}
    form["device_code"] = shown["device_code"]
    assert patient.post(device.metadata["token_endpoint"], data=form).json()["error"] == "authorization_pending"
    with somebody(world, "pia") as http:
        body: dict[str, Any] = {"user_code": shown["user_code"]}
        page = http.post("/api/v1/devices/lookup", json=body).raise_for_status().json()
        assert page["all_rights"] is False
        assert [one["permission"] for one in page["to_allow"]] == ["berths.view"]
        assert [one["permission"] for one in page["for_administrator"]] == ["berths.manage"]
        body |= {"approve": True, "permissions": ["berths.view", "berths.manage"]}
        assert http.post("/api/v1/devices/decision", json=body).status_code == 204
    answers: list[httpx.Response] = []

    def served() -> bool:
        answers.append(patient.post(device.metadata["token_endpoint"], data=form))
        return answers[-1].is_success

    wait_until(served)
    token = answers[-1].json()
    assert token["scope"].split() == ["berths.view", "offline_access", "openid"]
    assert world.call_berths(token["access_token"]).status_code == 200
    assert patient.post(device.metadata["token_endpoint"], data=form).json()["error"] == "invalid_grant", "once"
    assert refreshed(device, token["refresh_token"]).is_success
    for wrong, error in (
        ({"scope": "no.such"}, "invalid_scope"),
        ({"scope": ""}, "invalid_scope"),
        ({"client_id": "x"}, "invalid_client"),
    ):
        refused = patient.post(device.metadata["device_authorization_endpoint"], data={**ask, **wrong})
        assert refused.json()["error"] == error


def test_every_form_of_the_sheet_says_what_works(world: World, roster: Roster) -> None:
    with world.jamb() as steward, somebody(world) as http:
        (sheet,) = steward.clients.sheets(roster.id)
        assert (sheet.kind, sheet.redirect_uris, sheet.resource) == ("delegated", [BACK], BERTHS)
        back = answered(http, sheet.authorization_url)
        verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
        assert redeemed(roster, members(back)["code"], verifier).is_success
        environment = {
            "PATH": "/usr/bin:/bin",
            "CLIENT_SECRET": roster.secret,
            "CODE": members(answered(http, sheet.authorization_url))["code"],
        }
        ran = subprocess.run(
            ["bash", "-c", sheet.forms["curl"]], env=environment, capture_output=True, text=True, check=False
        )
        assert ran.returncode == 0, ran.stderr
        assert json.loads(ran.stdout)["refresh_token"]

        def typed(_prompt: str = "") -> str:
            return answered(http, said[-1])

        said: list[str] = []
        names: dict[str, Any] = {"print": said.append, "input": typed, "__name__": "sheet"}
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("CLIENT_SECRET", roster.secret)
            exec(compile(sheet.forms["python"], "sheet", "exec"), names)
        assert names["tokens"]["id_token"]
        assert json.loads(sheet.forms["json"])["metadata"].startswith(roster.issuer)


def test_the_library_signs_a_person_in_by_browser_and_by_device_and_renews_once_for_all(world: World) -> None:
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.view"])
    scope = "openid offline_access berths.view"

    def browser(address: str) -> None:
        def there() -> None:
            with somebody(world) as http:
                # Somebody else's answer comes first, and is passed over.
                back = answered(http, address)
                # Opened ahead, as browsers do, and silent.
                stack.enter_context(socket.create_connection(("127.0.0.1", urlsplit(back).port or 0)))
                patient.get(back.replace("state=", "state=not-"))
                patient.get(back)

        threading.Thread(target=there, daemon=True).start()

    with ExitStack() as stack:
        held = sign_in_by_browser(native.issuer, native.id, scope, open_browser=browser, seconds=60)
    berths = f"{world.base_url.rpartition(':')[0]}:{world.port + 1}/berths"
    with httpx.Client(auth=held, timeout=60) as http:
        assert http.get(berths).status_code == 200
        first = held.access_token
        held._ends = 0.0
        with ThreadPoolExecutor(8) as pool:
            answers = list(pool.map(lambda _: http.get(berths).status_code, range(8)))
        assert answers == [200] * 8
        assert held.access_token != first
    with world.database() as database:
        issued = database.execute(
            "select count(*) from refresh_token join person_authorization on id = authorization_id where client_id = %s",
            [native.id],
        ).fetchone()
    assert issued == (2,), "renewed once"
    with pytest.raises(NotSignedIn, match="said no"):
        sign_in_by_browser(native.issuer, native.id, scope, open_browser=lambda address: _decline(world, address))

    def shown(_address: str, code: str) -> None:
        with somebody(world) as http:
            body = {"user_code": code, "approve": True, "permissions": []}
            assert http.post("/api/v1/devices/decision", json=body).status_code == 204

    by_device = sign_in_by_device(native.issuer, native.id, scope, show=shown)
    with httpx.Client(auth=by_device, timeout=60) as http:
        assert http.get(berths).status_code == 200
    with pytest.raises(ServiceUnreachable, match="answer as an issuer"):
        sign_in_by_browser(f"{world.base_url}/d/nowhere", native.id, scope)


def _decline(world: World, address: str) -> None:
    def there() -> None:
        with somebody(world) as http:
            patient.get(answered(http, address, allow=False))

    threading.Thread(target=there, daemon=True).start()
