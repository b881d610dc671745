"""Grant types that a registration leaves out are refused everywhere, and one that nobody uses is found."""

from __future__ import annotations

import jwt
import pytest

from jamb.client import BadInput, ClientCredentials, NotSignedIn
from jamb.core.clients.clients import ClientKind, GrantType
from jamb.core.permissions import AccessKind
from tests import patient
from tests.service.entry.roster import BACK, answered, asked_of, by_hand, made, members, redeemed, refreshed, somebody
from tests.world import BERTHS, World, unique, wait_until

LOOPBACK = "http://127.0.0.1:49152/back"


def test_what_a_registration_leaves_out_is_refused_at_every_endpoint(world: World) -> None:
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.assign"])
    ask = {"client_id": native.id, "scope": "openid berths.assign"}
    device, token = native.metadata["device_authorization_endpoint"], native.metadata["token_endpoint"]
    assert patient.post(device, data=ask).is_success
    with world.jamb() as steward, somebody(world) as http:
        sent, verifier = by_hand(native, LOOPBACK, scope="openid offline_access berths.assign")
        code = members(answered(http, sent))["code"]
        first = redeemed(native, code, verifier, LOOPBACK).raise_for_status().json()

        changed = steward.clients.change(native.id, grant_types=[GrantType.AUTHORIZATION_CODE])
        assert changed.grant_types == ["authorization_code"]
        refused = refreshed(native, first["refresh_token"])
        assert (refused.status_code, refused.json()["error"]) == (400, "unauthorized_client")
        assert "refresh_token" in refused.json()["error_description"]
        assert patient.post(device, data=ask).json()["error"] == "invalid_client"
        # As if it had not been asked for: nobody is asked to let it stay.
        sent, verifier = by_hand(native, LOOPBACK, scope="openid offline_access berths.assign")
        assert asked_of(http, sent)["stays"] is False
        second = redeemed(native, members(answered(http, sent))["code"], verifier, LOOPBACK).raise_for_status().json()
        assert ("refresh_token" in second, "offline_access" in second["scope"]) == (False, False)

        steward.clients.change(native.id, grant_types=[GrantType.DEVICE_CODE])
        assert patient.post(device, data=ask).is_success
        page = patient.get(by_hand(native, LOOPBACK)[0], follow_redirects=False)
        assert "code=" not in page.headers.get("location", "")
        form = {"grant_type": "authorization_code", "code": "x", "code_verifier": "y", "client_id": native.id}
        assert patient.post(token, data=form).json()["error"] == "unauthorized_client"
        assert set(steward.clients.change(native.id, grant_types=[]).grant_types) == ClientKind.NATIVE.grant_types
        assert refreshed(native, first["refresh_token"]).is_success


def test_a_web_client_without_client_credentials_does_not_act_as_itself(world: World) -> None:
    web = made(world, "web", [BACK], ["berths.assign"])
    with world.jamb() as steward, world.jamb("approver") as approver:
        steward.asks.add(web.id, "berths", ["berths.view"])
        approver.consent.grant(web.id)
        by_itself = ClientCredentials(
            web.id, web.secret, token_endpoint=web.metadata["token_endpoint"], resource=BERTHS
        )
        assert jwt.decode(by_itself.fetch(), options={"verify_signature": False})["scope"] == "berths.view"
        steward.clients.change(web.id, grant_types=[GrantType.AUTHORIZATION_CODE, GrantType.REFRESH_TOKEN])
        with pytest.raises(NotSignedIn, match="without the grant type client_credentials"):
            by_itself.fetch()
        attempt = next(steward.clients.attempts(web.id))
        assert attempt.outcome == "wrong-grant-type"
        for kind, wrong in (
            ("service", [GrantType.DEVICE_CODE]),
            ("web", [GrantType.REFRESH_TOKEN, GrantType.CLIENT_CREDENTIALS]),
        ):
            with pytest.raises(BadInput) as refused:
                steward.clients.register(
                    unique("Odd"), "Says what does not fit", kind=ClientKind(kind), grant_types=wrong
                )
            assert [one.field for one in refused.value.violations] == ["grant_types"]


def test_sheets_steps_explanations_and_probes_say_what_a_client_may_not_do(world: World) -> None:
    web = made(world, "web", [BACK], ["berths.assign"])
    with world.jamb() as steward, world.jamb("approver") as approver:
        steward.asks.add(web.id, "berths", ["berths.view"])
        approver.consent.grant(web.id)
        assert {sheet.kind for sheet in steward.clients.sheets(web.id)} == {"application", "delegated"}

        steward.clients.change(web.id, grant_types=[GrantType.AUTHORIZATION_CODE])
        (sheet,) = steward.clients.sheets(web.id)
        assert (sheet.kind, "offline_access" in sheet.forms["curl"]) == ("delegated", False)
        explained = steward.clients.explain(web.id, "berths", "berths.list")
        assert [check.name for check in explained.checks if not check.passed] == ["grant-type"]
        command = f"jamb clients change {web.id} --grant-type authorization_code --grant-type client_credentials"
        assert [step.command for step in explained.steps] == [command]
        probed = steward.clients.probe(web.id, "berths", "berths.list")
        assert (probed.works, "without client_credentials" in probed.token.error) == (False, True)

        steward.clients.change(web.id, grant_types=[GrantType.CLIENT_CREDENTIALS], redirect_uris=[])
        (sheet,) = steward.clients.sheets(web.id)
        assert (sheet.kind, sheet.authorization_url) == ("application", "")
        assert steward.clients.read(web.id).client.next_steps == []
        for_somebody = steward.clients.explain(
            web.id, "berths", "occupant.assign", kind=AccessKind.DELEGATED, person="oskar.pell@quillhaven.example"
        )
        assert [check.name for check in for_somebody.checks if not check.passed] == ["grant-type"]


def test_a_grant_type_that_is_never_used_is_found_and_is_not_when_it_was(world: World) -> None:
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.assign"])

    def found() -> dict[str, str]:
        with world.jamb("auditor") as auditor:
            about = auditor.clients.read(native.id).findings
            return next((finding.evidence for finding in about if finding.rule == "grant-type-unused"), {})

    with world.database() as database:
        database.execute(
            "update client set registered_at = registered_at - interval '31 days' where id = %s", [native.id]
        )
    with somebody(world) as http:
        sent, verifier = by_hand(native, LOOPBACK, scope="openid offline_access berths.assign")
        first = redeemed(native, members(answered(http, sent))["code"], verifier, LOOPBACK).raise_for_status().json()
    wait_until(lambda: found().get("never used") == f"refresh_token, {GrantType.DEVICE_CODE.value}")
    assert refreshed(native, first["refresh_token"]).is_success
    wait_until(lambda: found().get("never used") == GrantType.DEVICE_CODE.value)
    with world.jamb() as steward:
        left = [GrantType.AUTHORIZATION_CODE, GrantType.REFRESH_TOKEN]
        steward.clients.change(native.id, grant_types=left)
    wait_until(lambda: found() == {})
