"""A page that runs in the browser signs somebody in with a client library of others: `oidc-client-ts`.

It knows the issuer's address, keeps its key in the browser, and reads what the issuer answers across origins.
"""

from __future__ import annotations

import threading
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import jwt
import pytest
from playwright.sync_api import Browser, expect

from tests import patient
from tests.console.browser import PATIENCE
from tests.service.entry.roster import Roster, made
from tests.world import ROOT, World

LIBRARY = (ROOT / "console/node_modules/oidc-client-ts/dist/browser/oidc-client-ts.min.js").read_bytes()
PAGE = b"""<!doctype html><title>Kiosk</title><h1>Kiosk</h1><script src="/library.js"></script><script>
window.managed = (settings) => new oidc.UserManager({
  ...settings,
  redirect_uri: location.origin + "/back",
  post_logout_redirect_uri: location.origin + "/left",
  response_mode: "query",
  userStore: new oidc.WebStorageStateStore({ store: localStorage }),
  ...(settings.bound ? { dpop: { bind_authorization_code: true, store: new oidc.IndexedDbDPoPStore() } } : {}),
});
</script>"""


class Serving(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        library = self.path == "/library.js"
        self.send_response(200)
        self.send_header("Content-Type", "text/javascript" if library else "text/html")
        self.end_headers()
        self.wfile.write(LIBRARY if library else PAGE)

    def log_message(self, *_: object) -> None:
        pass


@pytest.fixture(scope="module")
def origin() -> Iterator[str]:
    """Another site than the issuer, which is at 127.0.0.1."""
    with ThreadingHTTPServer(("127.0.0.1", 0), Serving) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"http://localhost:{server.server_port}"
        server.shutdown()


@pytest.fixture(scope="module")
def kiosk(world: World, origin: str) -> Roster:
    registered = made(world, "browser", [f"{origin}/back"], ["berths.view"])
    with world.jamb() as steward:
        steward.clients.change(registered.id, post_logout_redirect_uris=[f"{origin}/left"])
    return registered


@pytest.mark.parametrize("bound", [True, False], ids=["bound to a key", "as a bearer"])
def test_a_page_signs_somebody_in_stays_so_and_signs_them_out(
    world: World, browser: Browser, origin: str, kiosk: Roster, bound: bool
) -> None:
    settings = {
        "authority": kiosk.issuer,
        "client_id": kiosk.id,
        "scope": "openid profile offline_access berths.view",
        "bound": bound,
        # It asks userinfo with a bearer token, whatever the token is bound to.
        "loadUserInfo": not bound,
    }
    with browser.new_context(viewport={"width": 1280, "height": 800}) as context:
        page = context.new_page()
        page.set_default_timeout(PATIENCE)

        def ask(call: str) -> Any:
            return page.evaluate(f"async settings => {{ const m = managed(settings); return {call}; }}", settings)

        page.goto(origin)
        page.evaluate("settings => { managed(settings).signinRedirect(); }", settings)
        person = world.person("oskar")
        page.get_by_label("Login").fill(person["login"])
        page.get_by_label("Password").fill(person["password"])
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("button", name="Allow").or_(page.get_by_role("button", name="Go on")).click()
        page.wait_for_url(f"{origin}/back?*")
        user = ask("await m.signinCallback()")
        assert user["profile"].get("name") == (None if bound else "Oskar Pell")
        assert user["token_type"] == ("DPoP" if bound else "Bearer")
        fresh = ask("await m.signinSilent()")
        assert fresh["access_token"] != user["access_token"]
        assert ("cnf" in jwt.decode(fresh["access_token"], options={"verify_signature": False})) is bound
        ask("await m.revokeTokens(['refresh_token'])")
        form = {"grant_type": "refresh_token", "refresh_token": fresh["refresh_token"], "client_id": kiosk.id}
        refused = patient.post(kiosk.metadata["token_endpoint"], data=form)
        assert refused.json()["error"] == "invalid_grant"
        page.evaluate("settings => { managed(settings).signoutRedirect(); }", settings)
        leave = page.get_by_role("button", name="Sign out")
        page.wait_for_url(lambda url: "/sign-out" in url or url.startswith(origin + "/left"))
        if leave.count():
            leave.click()
        page.wait_for_url(f"{origin}/left*")
        expect(page.get_by_role("heading", level=1)).to_have_text("Kiosk")
