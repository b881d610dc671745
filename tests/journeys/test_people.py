"""An application that acts for people, from a refused call to one that works; and people who end it, or leave."""

from __future__ import annotations

from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from tests.service.entry.roster import BACK, Roster, answered, by_hand, made, members, redeemed, refreshed, somebody
from tests.world import World, add_person, unique, wait_until

OCCUPANT = "/berths/north-11/occupant?ship=Corvina"


def signed_in(world: World, roster: Roster, who: str, permission: str) -> dict[str, str]:
    with somebody(world, who) as http:
        address, verifier = by_hand(roster, scope=f"openid offline_access {permission}")
        found: dict[str, str] = (
            redeemed(roster, members(answered(http, address))["code"], verifier).raise_for_status().json()
        )
        return found


def test_a_refused_call_is_explained_asked_consented_and_works(world: World) -> None:
    """Oskar may assign ships; the application that he uses may only look."""
    roster = made(world, "web", [BACK], ["berths.view"])
    token = signed_in(world, roster, "oskar", "berths.view")["access_token"]
    wait_until(lambda: world.call_berths(token).status_code == 200)
    refused = world.call_berths(token, OCCUPANT, "PUT")
    assert (refused.status_code, refused.json()["missing_permission"]) == (403, "berths.assign")
    login = world.person("oskar")["login"]
    with world.jamb() as steward, world.jamb("approver") as approver:
        question = {"kind": AccessKind.DELEGATED, "person": login, "object": "north-11", "token": token}
        explained = steward.clients.explain(roster.id, "berths", "occupant.assign", **question)
        assert [step.kind for step in explained.steps] == ["ask", "consent", "fresh-token"]
        assert explained.steps[1].target == "berths.assign"
        steward.asks.add(roster.id, "berths", ["berths.assign"], kind=AccessKind.DELEGATED, reason="Ships are moved")
        seen = approver.consent.preview(roster.id)
        assert [one.name for one in seen.resources[0].newly] == ["occupant.assign"]
        approver.consent.grant(roster.id, reason="The harbour master asked for it")
    fresh = signed_in(world, roster, "oskar", "berths.assign")["access_token"]
    wait_until(lambda: world.call_berths(fresh, OCCUPANT, "PUT").status_code == 200)
    with world.jamb() as steward:
        tried = steward.clients.probe(roster.id, "berths", "occupant.assign", object="north-11", person=login)
        assert tried.works


def test_what_a_person_ends_ends_for_them_alone_and_whoever_leaves_is_out_everywhere(world: World) -> None:
    roster = made(world, "web", [BACK], ["berths.view"])
    login, password = f"{unique('deckhand').replace(' ', '.').lower()}@quillhaven.example", "harbour-lantern-rope-1"
    with world.jamb() as steward:
        add_person(steward, login, "Deckhand Ylva", password)
        world.agreed(lambda: steward.roles.assign("lookout", HolderKind.PERSON, [login]))
    world.demo["people"].append({"directory": "quillhaven", "login": login, "password": password, "roles": ["deck"]})
    hers, his = (signed_in(world, roster, who, "berths.view") for who in ("deck", "oskar"))
    for token in (hers, his):
        wait_until(lambda held=token["access_token"]: world.call_berths(held).status_code == 200)
    with somebody(world, "oskar") as http:
        (mine, *_) = [
            one
            for one in http.get("/api/v1/session/authorizations").raise_for_status().json()
            if one["client_id"] == roster.id
        ]
        http.delete(f"/api/v1/session/authorizations/{mine['id']}").raise_for_status()
    wait_until(lambda: world.call_berths(his["access_token"]).status_code == 401)
    assert refreshed(roster, his["refresh_token"]).json()["error"] == "invalid_grant"
    assert world.call_berths(hers["access_token"]).status_code == 200, "hers goes on"
    with world.jamb() as steward:
        steward.people.change(login, active=False)
    wait_until(lambda: world.call_berths(hers["access_token"]).status_code == 401)
    assert refreshed(roster, hers["refresh_token"]).json()["error"] == "invalid_grant"
    refused = world.failures(roster.id)[0]["outcome"]
    assert refused in {"refresh-ended", "person-inactive"}
