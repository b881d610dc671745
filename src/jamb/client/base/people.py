"""Tokens of a person for a program of theirs: by their browser (RFC 8252), or by a code that they type elsewhere.

The browser comes back to a loopback address that listens for that one answer. What is fetched is kept by the caller; it
is renewed before it runs out, once for all threads, and the refresh token that follows takes the place of the last.
"""

from __future__ import annotations

import base64
import hashlib
import secrets
import threading
import time
import webbrowser
from collections.abc import Callable, Generator
from dataclasses import dataclass
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import TYPE_CHECKING, Any
from urllib.parse import parse_qs, urlencode, urlsplit

import httpx

from jamb.client.base.auth import DEVICE_GRANT, Wait, post, unreachable
from jamb.client.base.flows import proven
from jamb.client.base.trust import trusted
from jamb.core.errors import NotSignedIn, ServiceUnreachable

if TYPE_CHECKING:
    from jamb.client.base.dpop import ProofKey

BROWSER_SECONDS = 300.0
_RENEW_BEFORE_SECONDS = 30
# How long a connection to the loopback address may say nothing.
_LISTENED_SECONDS = 20
_PAGE = b"<!doctype html><title>Signed in</title><p>You can close this page, and go back to the program."


@dataclass(frozen=True, slots=True)
class Issuer:
    """Where an issuer answers, from its metadata (RFC 8414, OpenID Connect Discovery)."""

    issuer: str
    authorization_endpoint: str
    token_endpoint: str
    device_authorization_endpoint: str

    @classmethod
    def read(cls, issuer: str) -> Issuer:
        """Return the endpoints of an issuer. Raises `ServiceUnreachable` where nothing of the kind answers."""
        url = f"{issuer.rstrip('/')}/.well-known/openid-configuration"
        try:
            told: dict[str, Any] = httpx.get(url, timeout=15, verify=trusted(url)).raise_for_status().json()
        except httpx.TransportError as error:
            raise unreachable(url, error) from error
        except (httpx.HTTPStatusError, ValueError) as error:
            raise ServiceUnreachable(f"{url} does not answer as an issuer does.") from error
        # RFC 8414 section 3.3: one that says it is another is not believed.
        if told.get("issuer") != issuer.rstrip("/"):
            raise ServiceUnreachable(f"{url} is of another issuer, {str(told.get('issuer'))[:120]}.")
        return cls(
            told["issuer"],
            told["authorization_endpoint"],
            told["token_endpoint"],
            told["device_authorization_endpoint"],
        )


class PersonTokens(httpx.Auth):
    """Sends a person's access token, and renews it before it runs out. Safe to share between threads.

    `keep`: called with each fresh answer of the token endpoint, for whoever stores it; it holds secrets. `proof_key`:
    the one that the tokens are bound to (RFC 9449), refresh tokens too.
    """

    requires_response_body = True

    def __init__(
        self,
        issuer: Issuer,
        client_id: str,
        answer: dict[str, Any],
        keep: Callable[[dict[str, Any]], None] | None = None,
        proof_key: ProofKey | None = None,
    ) -> None:
        self._proof_key = proof_key
        self._issuer, self.client_id, self._keep = issuer, client_id, keep
        self._lock = threading.Lock()
        self._take(answer)

    def __repr__(self) -> str:
        return f"{type(self).__name__}(client_id={self.client_id!r})"

    @property
    def access_token(self) -> str:
        """An access token that still lives for a while. Raises `NotSignedIn` where it cannot be renewed."""
        with self._lock:
            if time.monotonic() >= self._ends:
                self._renew()
            return self._access

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        held = self.access_token
        answer = yield from proven(request, self._proof_key, held)
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            with self._lock:
                # Another thread may have renewed it meanwhile.
                if self._access == held:
                    self._renew()
                held = self._access
            yield from proven(request, self._proof_key, held)

    def _take(self, answer: dict[str, Any]) -> None:
        self._access = str(answer["access_token"])
        self._refresh = str(answer.get("refresh_token", ""))
        self._ends = time.monotonic() + max(float(answer["expires_in"]) - _RENEW_BEFORE_SECONDS, 1)
        if self._keep is not None:
            self._keep(answer)

    def _renew(self) -> None:
        if not self._refresh:
            step = "Sign in again; ask for offline_access to stay signed in."
            raise NotSignedIn("The token has run out.", next_step=step)
        form = {"grant_type": "refresh_token", "refresh_token": self._refresh, "client_id": self.client_id}
        self._take({"refresh_token": self._refresh, **post(self._issuer.token_endpoint, form, self._proof_key)})


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
) -> PersonTokens:
    """Sign a person in by their browser, and wait for its answer.

    Args:
        path: of the registered loopback redirect URI, as http://127.0.0.1/back; the port is whichever is free.
        open_browser: leads the person to an address.
        proof_key: tokens are bound to it (RFC 9449).

    Raises:
        NotSignedIn: they said no, or did not answer in time. ServiceUnreachable: no issuer answers.
    """
    found = Issuer.read(issuer)
    state, verifier = secrets.token_urlsafe(16), secrets.token_urlsafe(48)
    challenge = base64.urlsafe_b64encode(hashlib.sha256(verifier.encode()).digest()).rstrip(b"=").decode()
    with _Listener(path) as listener:
        asked = {
            "response_type": "code",
            "client_id": client_id,
            "redirect_uri": listener.address,
            "scope": scope,
            "state": state,
            "code_challenge": challenge,
            "code_challenge_method": "S256",
            **({"resource": resource} if resource else {}),
        }
        open_browser(f"{found.authorization_endpoint}?{urlencode(asked)}")
        back = listener.wait(state, found.issuer, seconds)
    form = {
        "grant_type": "authorization_code",
        "code": back["code"],
        "code_verifier": verifier,
        "redirect_uri": listener.address,
        "client_id": client_id,
    }
    answer = post(found.token_endpoint, form, proof_key)
    return PersonTokens(found, client_id, answer, proof_key=proof_key)


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
) -> PersonTokens:
    """Sign a person in by a code that they type on another screen (RFC 8628), and wait for their answer.

    Args:
        show: is given the address and the code.
        proof_key: tokens are bound to it (RFC 9449).

    Raises:
        NotSignedIn: they said no, or the code ran out.
    """
    found = Issuer.read(issuer)
    asked = {"client_id": client_id, "scope": scope, **({"resource": resource} if resource else {})}
    told = post(found.device_authorization_endpoint, asked)
    show(str(told["verification_uri"]), str(told["user_code"]))
    ends, interval = time.monotonic() + float(told["expires_in"]), float(told.get("interval", 5))
    form = {"grant_type": DEVICE_GRANT, "client_id": client_id, "device_code": str(told["device_code"])}
    while time.monotonic() < ends:
        time.sleep(interval)
        try:
            answer = post(found.token_endpoint, form, proof_key)
            return PersonTokens(found, client_id, answer, proof_key=proof_key)
        except Wait as wait:
            interval += wait.longer_seconds
    raise NotSignedIn("The code ran out before anyone approved it.", next_step="Start again.")
