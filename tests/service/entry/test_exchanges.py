"""An API that was called for a person calls another for the same person (RFC 8693): never more than either may."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import httpx
import jwt
import pytest

from jamb.client import ClientCredentials, NotSignedIn
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.wire.directory.roles import RoleSent
from jamb.wire.resources.resources import ResourceSent
from tests import patient
from tests.cli.run import Shell
from tests.service.entry.roster import (
    BACK,
    WHO,
    Roster,
    answered,
    by_hand,
    introspected,
    made,
    members,
    redeemed,
    somebody,
)
from tests.world import BERTHS, Made, World, unique, wait_until

ACCESS = "urn:ietf:params:oauth:token-type:access_token"
GRANT = "urn:ietf:params:oauth:grant-type:token-exchange"


@dataclass(frozen=True)
class Relay:
    """An API of the port, what guards it, and an application that calls it for people."""

    identifier: str
    guard: Made
    roster: Roster

    def sent(self, world: World, who: str = WHO) -> str:
        """A token of somebody, as their application sends it to the API."""
        with somebody(world, who) as http:
            address, verifier = by_hand(self.roster, scope="openid relay.use", resource=self.identifier)
            answer = redeemed(self.roster, members(answered(http, address))["code"], verifier).raise_for_status()
            return str(answer.json()["access_token"])

    def exchange(self, token: str, guard: Made | None = None, **changed: str) -> httpx.Response:
        asks = guard or self.guard
        form = {
            "grant_type": GRANT,
            "subject_token": token,
            "subject_token_type": ACCESS,
            "resource": BERTHS,
            "client_id": asks.id,
            "client_secret": asks.secret,
        }
        return patient.post(
            self.roster.metadata["token_endpoint"], data={k: v for k, v in (form | changed).items() if v}
        )


@pytest.fixture(scope="module")
def relay(world: World) -> Relay:
    return published(world)


def published(world: World) -> Relay:
    name = unique("relay").replace(" ", "-").lower()
    guard = world.client()
    sent = ResourceSent.model_validate(
        {
            "title": "Relay",
            "identifier": f"https://{name}.example",
            "guard_client_id": guard.id,
            "operations": [
                {
                    "name": "relay.call",
                    "title": "Call",
                    "method": "GET",
                    "path": "/calls",
                    "effect": "read",
                    "data_class": "internal",
                }
            ],
            "permissions": [
                {"name": "relay.use", "title": "Use it", "kinds": ["delegated"], "unlocks": ["relay.call"]}
            ],
        }
    )
    with world.jamb() as steward:
        steward.resources.publish(name, sent)
        steward.roles.save(f"{name}-user", RoleSent(title="Uses the relay", resource=name, permissions=["relay.use"]))
        people = [world.person(who)["login"] for who in (WHO, "lotte")]
        world.agreed(lambda: steward.roles.assign(f"{name}-user", HolderKind.PERSON, people))
        steward.asks.add(guard.id, "berths", ["berths.assign"], kind=AccessKind.DELEGATED)
    roster = made(world, "web", [BACK], [])
    with world.jamb() as steward, world.jamb("approver") as approver:
        steward.asks.add(roster.id, name, ["relay.use"], kind=AccessKind.DELEGATED)
        approver.consent.grant(roster.id)
        approver.consent.grant(guard.id)
    return Relay(sent.identifier, guard, roster)


def test_the_person_is_passed_on_and_everything_ends_together(world: World, relay: Relay) -> None:
    sent = relay.sent(world)
    answer = relay.exchange(sent).raise_for_status().json()
    assert (answer["issued_token_type"], answer["token_type"]) == (ACCESS, "Bearer")
    token = answer["access_token"]
    before, after = (jwt.decode(one, options={"verify_signature": False}) for one in (sent, token))
    assert (after["sub"], after["sid"], after["aud"]) == (before["sub"], before["sid"], BERTHS)
    assert after["act"] == {"sub": relay.guard.id, "act": {"sub": relay.roster.id}}
    assert after["exp"] <= before["exp"]
    assert after["scope"].split() == ["berths.assign", "berths.view"]
    wait_until(lambda: world.call_berths(token).status_code == 200)
    guard = Roster(relay.guard.id, relay.guard.name, relay.guard.secret, relay.roster.issuer, relay.roster.metadata)
    assert introspected(guard, token)["act"] == after["act"]
    with somebody(world) as http:
        mine = http.get("/api/v1/session/authorizations").raise_for_status().json()
        (held,) = [one for one in mine if one["client_id"] == relay.roster.id and one["id"] == after["sid"]]
        http.delete(f"/api/v1/session/authorizations/{held['id']}").raise_for_status()
    assert introspected(guard, token) == {"active": False}
    wait_until(lambda: world.call_berths(token).status_code == 401)
    assert relay.exchange(sent).json()["error"] == "invalid_request"


def test_it_may_no_more_than_either(world: World, relay: Relay) -> None:
    """The API may assign; who has no role at Berths may nothing there, and less may be asked for."""
    answer = relay.exchange(relay.sent(world, "lotte"))
    assert (answer.status_code, answer.json()["error"]) == (400, "invalid_scope")
    assert "person may do nothing" in answer.json()["error_description"]
    narrow = relay.exchange(relay.sent(world), scope="berths.view").raise_for_status().json()["access_token"]
    wait_until(lambda: world.call_berths(narrow).status_code == 200)
    assert world.call_berths(narrow, "/berths/north-11/occupant?ship=Pallas", "PUT").status_code == 403


def test_it_ends_with_each_client_by_way_of_which_it_came(world: World) -> None:
    fresh = published(world)
    token = fresh.exchange(fresh.sent(world)).raise_for_status().json()["access_token"]
    wait_until(lambda: world.call_berths(token).status_code == 200)
    with world.jamb() as steward:
        steward.clients.disable(fresh.roster.id, reason="Not in use")
    wait_until(lambda: world.call_berths(token).status_code == 401)


@pytest.mark.parametrize(
    ("changed", "error", "said"),
    [
        ({"subject_token": ""}, "invalid_request", "subject_token is missing"),
        ({"subject_token": "x.y.z"}, "invalid_request", "no access token of this issuer"),
        ({"subject_token_type": "urn:ietf:params:oauth:token-type:id_token"}, "invalid_request", "must be"),
        ({"requested_token_type": "urn:ietf:params:oauth:token-type:refresh_token"}, "invalid_request", "must be"),
        ({"actor_token": "x"}, "invalid_request", "not supported"),
        ({"resource": ""}, "invalid_target", "missing"),
        ({"audience": "https://crew.quillhaven.example"}, "invalid_target", "one resource"),
        ({"resource": "https://nowhere.example"}, "invalid_target", "no resource"),
        ({"scope": "berths.sink"}, "invalid_scope", "no permission"),
        ({"scope": "berths.manage"}, "invalid_scope", "granted"),
    ],
)
def test_what_is_wrong_is_answered_as_the_standard_says(
    world: World, relay: Relay, changed: dict[str, str], error: str, said: str
) -> None:
    answer = relay.exchange(relay.sent(world), **changed)
    assert (answer.status_code, answer.json()["error"]) == (400, error)
    assert said in answer.json()["error_description"]


def test_a_token_is_exchanged_by_the_api_that_it_was_sent_to_alone(world: World, relay: Relay) -> None:
    """Neither by its own client, nor by another's, nor one that is nobody's, nor into the administrators' API."""
    sent = relay.sent(world)
    own = replace(relay.guard, id=relay.roster.id, secret=relay.roster.secret)
    for asks in (own, world.client(granted=["berths.view"])):
        answer = relay.exchange(sent, asks)
        assert (answer.status_code, answer.json()["error"]) == (400, "invalid_request"), answer.text
    api = f"{world.base_url}/api/v1/directories/quillhaven"
    assert relay.exchange(sent, resource=api).json()["error"] == "invalid_target"
    assert relay.exchange(sent, resource=relay.identifier).json()["error"] == "invalid_target"
    itself = world.client(granted=["berths.view"])
    alone: dict[str, Any] = world.ask_token(itself).json()
    assert relay.exchange(alone["access_token"]).json()["error"] == "invalid_request"
    (first, *_) = world.failures(relay.guard.id)
    assert first["outcome"] == "subject-token"
    native = made(world, "native", ["http://127.0.0.1/back"], ["berths.view"])
    public = relay.exchange(sent, replace(relay.guard, id=native.id, secret=""))
    assert public.json()["error"] == "unauthorized_client"


def test_library_and_command_line_do_it(world: World, relay: Relay, tmp_path: Any) -> None:
    endpoint = relay.roster.metadata["token_endpoint"]
    guard = ClientCredentials(relay.guard.id, relay.guard.secret, token_endpoint=endpoint)
    token = guard.exchanged(relay.sent(world), BERTHS, "berths.view")
    wait_until(lambda: world.call_berths(token).status_code == 200)
    with pytest.raises(NotSignedIn):
        guard.exchanged("x.y.z", BERTHS)
    file = tmp_path / "sent.txt"
    file.write_text(relay.sent(world) + "\n")
    words = ["token", "get", "--issuer", relay.roster.issuer, "--client", relay.guard.id, "--resource", BERTHS]
    said = Shell(world, tmp_path)(*words, "--exchange", str(file), CLIENT_SECRET=relay.guard.secret)
    assert world.call_berths(said.out.strip()).status_code == 200, said.err
    with world.jamb() as steward:
        (sheet,) = steward.clients.sheets(relay.guard.id)
        assert sheet.kind is AccessKind.DELEGATED
        assert GRANT in sheet.forms["json"]
        assert "subject_token@" in sheet.forms["curl"]
