"""Ways to sign a person in at a program: by their browser (RFC 8252), or by a code that they type elsewhere (RFC 8628).

The browser comes back to a loopback address that listens for that one answer.
"""

from __future__ import annotations

import base64
import hashlib
import secrets
import time
import webbrowser
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qs, urlencode, urlsplit

from jamb.client.base.auth import DEVICE_GRANT, Wait, post
from jamb.client.base.person_tokens import Issuer, PersonSignIn, PersonTokens, signed_in
from jamb.core.errors import NotSignedIn

if TYPE_CHECKING:
    from jamb.client.base.dpop import ProofKey
    from jamb.client.base.kept_tokens import TokenStore

BROWSER_SECONDS = 300.0
# How long a connection to the loopback address may say nothing.
_LISTENED_SECONDS = 20
_PAGE = b"<!doctype html><title>Signed in</title><p>You can close this page, and go back to the program."


def sign_in_by_browser(
    issuer: str,
    client_id: str,
    scope: str,
    *,
    resource: str = "",
    path: str = "/back",
    open_browser: Callable[[str], object] = webbrowser.open,
    seconds: float = BROWSER_SECONDS,
    proof_key: ProofKey | None = None,
    kept: TokenStore | None = None,
) -> PersonTokens:
    """Sign a person in by their browser, and wait for its answer; where they did before, and it is kept, ask nobody.

    Args:
        path: of the registered loopback redirect URI, as http://127.0.0.1/back; the port is whichever is free.
        open_browser: leads the person to an address.
        proof_key: tokens are bound to it (RFC 9449).
        kept: where the sign-in is kept; ask for offline_access, or it ends with its first token.

    Raises:
        NotSignedIn: they said no, or did not answer in time. ServiceUnreachable: no issuer answers.
    """
    wanted = PersonSignIn(Issuer.read(issuer), client_id, scope, resource, proof_key, kept)
    return signed_in(wanted, lambda: _by_browser(wanted, path, open_browser, seconds))


def _by_browser(
    wanted: PersonSignIn, path: str, open_browser: Callable[[str], object], seconds: float
) -> dict[str, Any]:
    state, verifier = secrets.token_urlsafe(16), secrets.token_urlsafe(48)
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    with _Listener(path) as listener:
        asked = {
            "response_type": "code",
            "client_id": wanted.client_id,
            "redirect_uri": listener.address,
            "scope": wanted.scope,
            "state": state,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
            **({"resource": wanted.resource} if wanted.resource else {}),
        }
        open_browser(f"{wanted.issuer.authorization_endpoint}?{urlencode(asked)}")
        back = listener.wait(state, wanted.issuer.issuer, seconds)
    form = {
        "grant_type": "authorization_code",
        "code": back["code"],
        "code_verifier": verifier,
        "redirect_uri": listener.address,
        "client_id": wanted.client_id,
    }
    return dict(post(wanted.issuer.token_endpoint, form, wanted.proof_key))


class _Listener:
    """Listens on a free loopback port for one answer (RFC 8252 section 7.3)."""

    def __init__(self, path: str) -> None:
        self._answers: list[dict[str, str]] = []
        answers = self._answers

        class Taking(BaseHTTPRequestHandler):
            timeout = _LISTENED_SECONDS

            def do_GET(self) -> None:
                parts = urlsplit(self.path)
                if parts.path != path:
                    self.send_error(404)
                    return
                self.send_response(200)
                self.send_header("Content-Type", "text/html; charset=utf-8")
                self.end_headers()
                self.wfile.write(_PAGE)
                # Only now: with the answer the program may end.
                answers.append({name: values[0] for name, values in parse_qs(parts.query).items()})

            def log_message(self, *_: object) -> None:
                # Addresses hold codes.
                pass

        # Browsers open connections ahead, and say nothing on them: one holds up no other.
        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Taking)
        self._server.timeout = 0.2
        self.address = f"http://127.0.0.1:{self._server.server_port}{path}"

    def __enter__(self) -> _Listener:
        return self

    def __exit__(self, *_: object) -> None:
        self._server.server_close()

    def wait(self, state: str, issuer: str, seconds: float) -> dict[str, str]:
        """Return the answer to what was asked; any other, or of another issuer (RFC 9207), is passed over."""
        ends = time.monotonic() + seconds
        while time.monotonic() < ends:
            self._server.handle_request()
            while self._answers:
                back = self._answers.pop()
                if back.get("state") != state or back.get("iss") != issuer:
                    continue
                if "error" in back:
                    raise NotSignedIn(f"{back.get('error_description', 'The issuer refused.')} ({back['error']})")
                if "code" in back:
                    return back
        raise NotSignedIn("The browser did not come back in time.", next_step="Start again.")


def sign_in_by_device(
    issuer: str,
    client_id: str,
    scope: str,
    *,
    resource: str = "",
    show: Callable[[str, str], object],
    proof_key: ProofKey | None = None,
    kept: TokenStore | None = None,
) -> PersonTokens:
    """Sign a person in by a code that they type on another screen (RFC 8628), and wait for their answer.

    Args:
        show: is given the address and the code.
        proof_key, kept: as of `sign_in_by_browser`.

    Raises:
        NotSignedIn: they said no, or the code ran out.
    """
    wanted = PersonSignIn(Issuer.read(issuer), client_id, scope, resource, proof_key, kept)
    return signed_in(wanted, lambda: _by_device(wanted, show))


def _by_device(wanted: PersonSignIn, show: Callable[[str, str], object]) -> dict[str, Any]:
    resource = {"resource": wanted.resource} if wanted.resource else {}
    asked = {"client_id": wanted.client_id, "scope": wanted.scope, **resource}
    told = post(wanted.issuer.device_authorization_endpoint, asked)
    show(str(told["verification_uri"]), str(told["user_code"]))
    ends, interval = time.monotonic() + float(told["expires_in"]), float(told.get("interval", 5))
    form = {"grant_type": DEVICE_GRANT, "client_id": wanted.client_id, "device_code": str(told["device_code"])}
    while time.monotonic() < ends:
        time.sleep(interval)
        try:
            return dict(post(wanted.issuer.token_endpoint, form, wanted.proof_key))
        except Wait as wait:
            interval += wait.longer_seconds
    raise NotSignedIn("The code ran out before anyone approved it.", next_step="Start again.")
