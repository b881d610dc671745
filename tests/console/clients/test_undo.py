"""What was done within the hour is undone by one press: the opposite change, which is judged and written down as any."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from tests.console.browser import Open, faults
from tests.world import World, unique


def undone(page: Page, said: str) -> None:
    panel = page.get_by_role("region", name="What you did within the hour")
    expect(panel.get_by_role("listitem").filter(has_text=said).first).to_be_visible()
    assert faults(page) == []
    panel.get_by_role("button", name=f"Undo: {said}").click()
    expect(panel.get_by_role("status")).to_have_text("It is undone.")


def test_a_client_is_disabled_and_works_again_after_one_press(world: World, open_console: Open) -> None:
    made = world.client(granted=["berths.view"])
    with open_console("registrar", path=f"/clients/{made.id}") as page:
        page.get_by_role("button", name="Disable it").click()
        page.get_by_role("button", name="Disable it", exact=True).last.click()
        expect(page.get_by_text("It is disabled, and its tokens are revoked.")).to_be_visible()
        assert world.ask_token(made).status_code == 400
        # It is still on offer after the page was loaded anew, by the button in the rail.
        page.reload()
        page.get_by_role("button", name=re.compile("^Undo 1")).click()
        undone(page, f"You disabled {made.name}.")
        assert world.ask_token(made).status_code == 200
    with world.jamb("auditor") as auditor:
        told = [entry.action for entry in auditor.ledger.list(client=made.id)]
    assert told[:2] == ["client.enabled", "client.disabled"], "both are in the ledger"


def test_what_was_changed_meanwhile_is_not_overwritten_by_undoing(world: World, open_console: Open) -> None:
    world.open_directory("undone")
    with (
        world.session("steward", "undone") as http,
        open_console("steward", path="/directory", directory="undone") as page,
    ):
        policy = "/api/v1/directories/undone/policy"
        before = http.get("/api/v1/directories/undone").json()["policy"]["warn_days"]
        page.get_by_role("button", name="Change the policy").click()
        page.get_by_label("Warn before expiry").fill(str(before + 5))
        page.get_by_role("button", name="Save the policy").click()
        undone(page, "You changed the policy.")
        assert http.get("/api/v1/directories/undone").json()["policy"]["warn_days"] == before
        page.get_by_role("button", name="Change the policy").click()
        page.get_by_label("Warn before expiry").fill(str(before + 5))
        page.get_by_role("button", name="Save the policy").click()
        panel = page.get_by_role("region", name="What you did within the hour")
        expect(panel.get_by_role("listitem")).to_have_count(1)
        http.put(policy, json={"warn_days": before + 9}).raise_for_status()
        panel.get_by_role("button", name="Undo: You changed the policy.").click()
        expect(panel.get_by_role("alert")).to_contain_text("was changed meanwhile")
        assert http.get("/api/v1/directories/undone").json()["policy"]["warn_days"] == before + 9


def test_a_role_comes_back_with_the_end_it_had_and_to_where_it_counted(world: World, open_console: Open) -> None:
    role, ends = unique("lookout").replace(" ", "-"), "2031-05-04T10:00:00Z"
    roles = f"/api/v1/directories/quillhaven/roles/{role}"
    with world.session("steward") as http, open_console("steward", path=f"/people?role={role}") as page:

        def held() -> list[tuple[str, str, list[str], str]]:
            (found,) = [one for one in http.get(roles.rpartition("/")[0]).json() if one["name"] == role]
            return [
                (one["name"], one["reach"]["kind"], one["reach"]["collections"], one["expires_at"])
                for one in found["holders"]
            ]

        http.put(
            roles, json={"title": "Looks out", "resource": "berths", "permissions": ["berths.view"]}
        ).raise_for_status()
        wanted = {
            "kind": "person",
            "holders": ["wouter.haan@quillhaven.example"],
            "reach": {"kind": "only", "collections": ["south"]},
            "expires_at": ends,
        }
        http.post(f"{roles}/assignments", json=wanted).raise_for_status()
        before = held()
        page.reload()
        page.get_by_role("button", name=f"Withdraw {role} from Wouter Haan").click()
        page.get_by_role("dialog").get_by_role("button", name="Withdraw the role").click()
        undone(page, f"You withdrew {role} from Wouter Haan.")
        assert held() == before == [("Wouter Haan", "only", ["south"], ends)]


def test_an_owner_comes_back_at_the_level_they_had(world: World, open_console: Open) -> None:
    made = world.client()
    with world.session("steward") as http, open_console("steward", path=f"/clients/{made.id}") as page:
        owners = f"/api/v1/directories/quillhaven/clients/{made.id}/owners"
        wanted = {"add": ["pia.nowicki@quillhaven.example"], "remove": [], "level": "edit"}
        before = http.post(owners, json=wanted).raise_for_status().json()["owners"]
        page.reload()
        page.get_by_role("button", name="change owners").click()
        page.get_by_role("button", name="Remove Pia Nowicki").click()
        page.get_by_role("button", name="Save owners").click()
        undone(page, f"You changed the owners of {made.name}.")
        now = http.get(owners.rpartition("/")[0]).json()["client"]["owners"]
        assert sorted(now, key=str) == sorted(before, key=str)
        assert {one["level"] for one in now} == {"full", "edit"}


def test_a_group_and_a_registration_are_again_what_they_were(world: World, open_console: Open) -> None:
    made, group = world.client(kind="web"), unique("tugs").replace(" ", "-")
    here = "/api/v1/directories/quillhaven"
    with world.session("steward") as http:
        body = {"title": f"Crews of {group}", "people": ["wouter.haan@quillhaven.example"], "groups": []}
        http.put(f"{here}/groups/{group}", json=body).raise_for_status()
        with open_console("steward", path=f"/people?open=group:{group}") as page:
            page.get_by_label("Title", exact=True).fill("Crews of nobody")
            page.get_by_role("button", name="Remove Wouter Haan").click()
            page.get_by_role("button", name="Save the group").click()
            undone(page, f"You changed the group Crews of {group}.")
        (found,) = http.get(f"{here}/groups", params={"q": group}).json()["items"]
        assert (found["title"], [one["name"] for one in found["people"]]) == (body["title"], ["Wouter Haan"])
        said = {
            "purpose": "Shows the tugs",
            "redirect_uris": ["https://tugs.example/back"],
            "client_uri": "https://tugs.example/",
        }
        until = {"trial_ends_at": "2031-05-04T10:00:00Z"}
        http.put(f"{here}/clients/{made.id}", json={"name": made.name, **said, **until}).raise_for_status()
        before = http.get(f"{here}/clients/{made.id}").json()["client"]
        with open_console("steward", path=f"/clients/{made.id}") as page:
            page.get_by_role("button", name="Change it").click()
            page.get_by_label("Purpose").fill("Another one")
            page.get_by_label("Redirect URIs", exact=False).first.fill("https://tugs.example/elsewhere")
            page.get_by_label("On trial until").fill("")
            page.get_by_role("button", name="Save", exact=True).click()
            undone(page, f"You changed what {made.name} says of itself.")
        now = http.get(f"{here}/clients/{made.id}").json()["client"]
        assert {**now, "version": ""} == {**before, "version": ""}
