"""Passkeys in the console, made and shown by Chromium's own authenticator."""

from __future__ import annotations

from playwright.sync_api import Browser, expect

from tests.console.browser import faults
from tests.world import World

GROUND = "passkeys"


def test_a_passkey_is_added_signs_in_and_confirms(world: World, browser: Browser) -> None:
    world.open_directory(GROUND)
    held = world.person("steward", GROUND)
    context = browser.new_context(
        viewport={"width": 1280, "height": 800}, reduced_motion="reduce", base_url=f"http://localhost:{world.port}"
    )
    page = context.new_page()
    wrong: list[str] = []
    page.on("pageerror", lambda error: wrong.append(str(error)))
    devices = context.new_cdp_session(page)
    devices.send("WebAuthn.enable")
    kind = {"protocol": "ctap2", "transport": "internal", "hasResidentKey": True, "hasUserVerification": True}
    devices.send("WebAuthn.addVirtualAuthenticator", {"options": {**kind, "isUserVerified": True}})
    page.goto("/sign-in")
    page.get_by_label("Login").fill(held["login"])
    page.get_by_label("Password").fill(held["password"])
    page.get_by_role("button", name="Sign in", exact=True).click()
    expect(page.get_by_role("navigation", name="Main")).to_be_visible()
    page.goto("/password")
    page.get_by_role("button", name="Add a passkey").click()
    page.get_by_label("Name").fill("This laptop")
    assert faults(page) == []
    page.get_by_role("button", name="Add the passkey").click()
    expect(page.get_by_role("status").filter(has_text="Keep these recovery codes")).to_be_visible()
    page.get_by_role("button", name="I have kept them").click()
    expect(page.get_by_role("cell", name="This laptop")).to_be_visible()
    expect(page.get_by_text("10 of 10 recovery codes are left")).to_be_visible()
    assert faults(page) == []
    page.get_by_role("button", name="Sign out").click()
    assert faults(page) == []
    page.get_by_role("button", name="Sign in with a passkey").click()
    expect(page.get_by_role("navigation", name="Main")).to_be_visible()
    # What is heavy waits until it was shown anew that it is they, and goes on then.
    with world.database() as connection:
        connection.execute(
            "UPDATE directory SET policy = policy || '{\"confirm_minutes\": 5}'::jsonb WHERE slug = %s", (GROUND,)
        )
        connection.execute("UPDATE console_session SET created_at = created_at - interval '1 hour'")
    page.goto("/people")
    page.get_by_role("button", name="Add people").click()
    page.get_by_role("textbox", name="Login").fill(f"new@{GROUND}.example")
    page.get_by_role("textbox", name="Name").fill("New Person")
    page.get_by_role("button", name="Add", exact=True).click()
    asked = page.get_by_role("dialog", name="Show that it is you")
    expect(asked).to_be_visible()
    expect(asked.get_by_label("Password")).to_be_focused()
    assert faults(page) == []
    asked.get_by_role("button", name="Use a passkey").click()
    expect(asked).not_to_be_visible()
    expect(page.get_by_text("New Person").first).to_be_visible()
    page.goto("/password")
    page.get_by_role("button", name="Take it off").click()
    page.get_by_role("button", name="Take off “This laptop”").click()
    expect(page.get_by_role("button", name="Add a passkey")).to_be_visible()
    expect(page.get_by_role("cell", name="This laptop", exact=True)).not_to_be_visible()
    context.close()
    assert wrong == []
