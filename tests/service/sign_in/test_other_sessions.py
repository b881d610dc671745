"""One browser in several directories: it switches without signing in again, and signs out of all of them at once."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import timedelta
from hashlib import sha256
from typing import Any

import httpx
import pytest

from tests import patient
from tests.world import World

HERE, THERE = "quillhaven", "brisling"


@pytest.fixture
def browser(world: World) -> Iterator[httpx.Client]:
    """Signed in at both as their stewards; the second one is used."""
    with patient.Client(base_url=world.base_url) as http:
        for slug in (HERE, THERE):
            sign_in(http, world, slug)
        yield http


def sign_in(http: httpx.Client, world: World, slug: str, role: str = "steward") -> dict[str, Any]:
    person = world.person(role, slug)
    body = {"login": person["login"], "password": person["password"], "directory": slug}
    return go_on(http, http.post("/api/v1/session", json=body))


def go_on(http: httpx.Client, answer: httpx.Response) -> dict[str, Any]:
    session: dict[str, Any] = answer.raise_for_status().json()
    http.headers["X-Jamb-CSRF"] = session["csrf"]
    return session


def switch(http: httpx.Client, slug: str) -> httpx.Response:
    return http.put("/api/v1/session/directory", json={"directory": slug})


def slugs(session: dict[str, Any]) -> list[str]:
    return [other["directory"] for other in session["others"]]


def whoami(http: httpx.Client, slug: str) -> int:
    return http.get(f"/api/v1/directories/{slug}/whoami").status_code


def test_a_browser_goes_on_where_it_is_signed_in_and_nowhere_else(world: World, browser: httpx.Client) -> None:
    found = browser.get("/api/v1/session").json()
    assert (found["directory"], slugs(found)) == (THERE, [HERE])
    assert found["others"][0]["login"] == world.person("steward", HERE)["login"]
    assert (whoami(browser, THERE), whoami(browser, HERE)) == (200, 404)
    # Another site's page cannot switch it, and the value of the one sign-in is worth nothing for the other.
    old = browser.headers.pop("X-Jamb-CSRF")
    assert switch(browser, HERE).status_code == 403
    browser.headers["X-Jamb-CSRF"] = old
    now = go_on(browser, switch(browser, HERE))
    assert (now["directory"], now["person"]["roles"], slugs(now)) == (HERE, ["steward"], [THERE])
    assert (whoami(browser, THERE), whoami(browser, HERE)) == (404, 200)
    assert browser.delete("/api/v1/session", headers={"X-Jamb-CSRF": old}).status_code == 403
    # To sign in anew is one sign-in a directory, still.
    assert slugs(sign_in(browser, world, HERE)) == [THERE]
    refused = switch(browser, "quillhaven-trial")
    assert (refused.status_code, "not signed in" in refused.json()["detail"]) == (404, True)


def test_what_a_browser_made_up_is_no_sign_in(world: World, browser: httpx.Client) -> None:
    browser.cookies.set("jamb_sessions", ".".join(["made-up", "", "x" * 500] * 40), domain="127.0.0.1", path="/")
    assert browser.get("/api/v1/session").json()["others"] == []
    assert switch(browser, HERE).status_code == 404


def test_nobody_finds_the_sign_ins_of_whoever_used_the_browser_before(world: World) -> None:
    with patient.Client(base_url=world.base_url) as http:
        for slug in (THERE, HERE):
            sign_in(http, world, slug)
        # Another person signs in over the one who is there.
        assert slugs(sign_in(http, world, HERE, "auditor")) == []
        assert switch(http, THERE).status_code == 404
    with patient.Client(base_url=world.base_url) as http:
        for slug in (THERE, HERE):
            sign_in(http, world, slug)
        # The one that was used has ended; the other, of a directory that lets it be idle for longer, has not.
        used = sha256(http.cookies["jamb_session"].encode()).digest()
        with world.database() as database:
            database.execute(
                "update console_session set seen_at = seen_at - interval '2 days' where digest = %s", [used]
            )
        assert slugs(sign_in(http, world, HERE, "auditor")) == []
        assert "jamb_sessions" not in http.cookies
        assert switch(http, THERE).status_code == 404


def test_signing_out_ends_all_of_them(browser: httpx.Client) -> None:
    held = [browser.cookies["jamb_session"], *browser.cookies["jamb_sessions"].split(".")]
    assert len(held) == 2
    browser.delete("/api/v1/session").raise_for_status()
    assert not {"jamb_session", "jamb_sessions"} & set(browser.cookies)
    for cookie in held:
        again = patient.get(f"{browser.base_url}/api/v1/session", headers={"Cookie": f"jamb_session={cookie}"})
        assert again.status_code == 401


def test_to_wait_is_no_use_of_a_sign_in(world: World, browser: httpx.Client) -> None:
    waiting = sha256(browser.cookies["jamb_sessions"].encode()).digest()
    with world.database() as database:
        seen = "update console_session set seen_at = seen_at - %s where digest = %s returning seen_at"
        (before,) = database.execute(seen, [timedelta(minutes=5), waiting]).fetchone() or (None,)
    assert slugs(browser.get("/api/v1/session").json()) == [HERE]
    with world.database() as database:
        (after,) = database.execute("select seen_at from console_session where digest = %s", [waiting]).fetchone() or ()
        assert after == before
        database.execute(seen, [timedelta(days=2), waiting])
    assert browser.get("/api/v1/session").json()["others"] == []
    assert switch(browser, HERE).status_code == 404
