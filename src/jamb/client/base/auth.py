"""Ways to prove oneself: client credentials (RFC 6749), a kept access token, or a device sign-in (RFC 8628)."""

from __future__ import annotations

import time
from collections.abc import Generator
from dataclasses import dataclass
from typing import TYPE_CHECKING

import httpx

from jamb.client.base.flows import Flow, proven, sent
from jamb.client.base.one_renewal import OneRenewal, Steps, Turn
from jamb.client.base.trust import trusted
from jamb.core.credentials.urns import CLIENT_ASSERTION
from jamb.core.errors import NotSignedIn, ServiceUnreachable, TooManyTries

if TYPE_CHECKING:
    from jamb.client.base.dpop import ProofKey
    from jamb.client.base.private_key import PrivateKey

DEVICE_GRANT = "urn:ietf:params:oauth:grant-type:device_code"
_RENEW_BEFORE_SECONDS = 30


class AccessToken(httpx.Auth):
    """Sends a token one has."""

    def __init__(self, token: str) -> None:
        self._token = token

    def auth_flow(self, request: httpx.Request) -> Generator[httpx.Request, httpx.Response, None]:
        request.headers["Authorization"] = f"Bearer {self._token}"
        yield request


class ClientCredentials(OneRenewal):
    """Fetches tokens with a client id and secret, keeps each until it runs out, and fetches anew when one is refused.

    Safe to share between threads and between tasks: one of them fetches, and the others wait for it.
    `token_endpoint` and `resource` are filled in by `Jamb` for its own API; give them to call another resource.
    `proof_key`: tokens are bound to it (RFC 9449), and count for nobody who has not the key.
    """

    def __init__(
        self,
        client_id: str,
        client_secret: str,
        *,
        token_endpoint: str = "",
        resource: str = "",
        proof_key: ProofKey | None = None,
    ) -> None:
        super().__init__()
        self.client_id, self._secret, self._proof_key = client_id, client_secret, proof_key
        self.token_endpoint, self.resource = token_endpoint, resource
        self._token, self._ends = "", 0.0

    def __repr__(self) -> str:
        return f"{type(self).__name__}(client_id={self.client_id!r})"

    def fetch(self, scope: str = "") -> str:
        """Fetch a token and return it. `scope`: permissions, with a space between; empty: all that are granted."""
        form = {"grant_type": "client_credentials", "resource": self.resource, "scope": scope}
        return self._fetched({name: value for name, value in form.items() if value})

    def _fetched(self, form: dict[str, str]) -> str:
        wanted = self._request(form)
        try:
            with httpx.Client(timeout=15, verify=trusted(self.token_endpoint)) as http:
                return _answer_of(sent(http, proven(wanted, self._proof_key)))["access_token"]
        except httpx.TransportError as error:
            raise unreachable(self.token_endpoint, error) from error

    def exchanged(self, subject_token: str, resource: str, scope: str = "") -> str:
        """Return a token by which an API calls another for the person of a token that it was sent (RFC 8693).

        `scope`: permissions there, with a space between; empty: all that the client and the person both may.
        """
        form = {
            "grant_type": "urn:ietf:params:oauth:grant-type:token-exchange",
            "subject_token": subject_token,
            "subject_token_type": "urn:ietf:params:oauth:token-type:access_token",
            "resource": resource,
            "scope": scope,
        }
        return self._fetched({name: value for name, value in form.items() if value})

    def forget(self) -> None:
        """Fetch another token next time."""
        self._ends = 0.0

    def _steps(self, request: httpx.Request) -> Steps:
        if time.monotonic() >= self._ends:
            yield from self._fetch(self._token)
        held = self._token
        answer = yield from proven(request, self._proof_key, held)
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            yield from self._fetch(held)
            yield from proven(request, self._proof_key, self._token)

    def _fetch(self, known: str) -> Steps:
        """Fetch a token, unless another flow put one in the place of the known one meanwhile."""
        yield Turn.TAKE
        if self._token == known or time.monotonic() >= self._ends:
            yield from self._fetch_alone()
        yield Turn.GIVE

    def _fetch_alone(self) -> Flow:
        form = {"grant_type": "client_credentials"}
        if self.resource:
            form["resource"] = self.resource
        answer = yield from proven(self._request(form), self._proof_key)
        body = _answer_of(answer)
        self._token = body["access_token"]
        self._ends = time.monotonic() + max(float(body["expires_in"]) - _RENEW_BEFORE_SECONDS, 1)
        return answer

    def _request(self, form: dict[str, str]) -> httpx.Request:
        """Return the token request with what proves the client."""
        wanted = httpx.Request("POST", self.token_endpoint, data=form)
        return next(httpx.BasicAuth(self.client_id, self._secret).auth_flow(wanted))


class KeyPair(ClientCredentials):
    """Client credentials proven by a private key: private_key_jwt (RFC 7523 section 2.2), a fresh assertion each time.

    The audience of the assertion is the issuer, whose token endpoint is /token below it.
    """

    def __init__(
        self,
        client_id: str,
        key: PrivateKey,
        *,
        token_endpoint: str = "",
        resource: str = "",
        proof_key: ProofKey | None = None,
    ) -> None:
        super().__init__(client_id, "", token_endpoint=token_endpoint, resource=resource, proof_key=proof_key)
        self._key = key

    def _request(self, form: dict[str, str]) -> httpx.Request:
        issuer = self.token_endpoint.removesuffix("/token")
        proof = {
            "client_assertion_type": CLIENT_ASSERTION,
            "client_assertion": self._key.assertion(self.client_id, issuer),
        }
        return httpx.Request("POST", self.token_endpoint, data={**form, **proof})


@dataclass
class DeviceSignIn:
    """A sign-in that waits for a person's yes at `address` with `user_code`; `wait` returns the token."""

    token_endpoint: str
    client_id: str
    device_code: str
    user_code: str
    address: str
    complete_address: str
    interval_seconds: float
    expires_in_seconds: float

    @classmethod
    def start(cls, base_url: str, directory: str) -> DeviceSignIn:
        """Ask the directory for a code. Raises `ServiceUnreachable`, or `NotSignedIn` when the directory refuses."""
        issuer = f"{base_url.rstrip('/')}/d/{directory}"
        client_id = f"jamb-command-line.{directory}"
        body = post(f"{issuer}/device_authorization", {"client_id": client_id})
        return cls(
            token_endpoint=f"{issuer}/token",
            client_id=client_id,
            device_code=body["device_code"],
            user_code=body["user_code"],
            address=body["verification_uri"],
            complete_address=body.get("verification_uri_complete", body["verification_uri"]),
            interval_seconds=float(body.get("interval", 5)),
            expires_in_seconds=float(body["expires_in"]),
        )

    def wait(self) -> tuple[str, float]:
        """Poll until the person decides; return the token and its life in seconds (RFC 8628 section 3.4 and 3.5)."""
        ends = time.monotonic() + self.expires_in_seconds
        while time.monotonic() < ends:
            time.sleep(self.interval_seconds)
            form = {"grant_type": DEVICE_GRANT, "client_id": self.client_id, "device_code": self.device_code}
            try:
                body = post(self.token_endpoint, form)
            except Wait as wait:
                self.interval_seconds += wait.longer_seconds
                continue
            return body["access_token"], float(body["expires_in"])
        raise NotSignedIn("The code ran out before anyone approved it.", next_step="Start again.")


class Wait(Exception):
    """Nobody has decided yet; how much longer to wait between two tries."""

    def __init__(self, longer_seconds: float) -> None:
        super().__init__()
        self.longer_seconds = longer_seconds


def post(url: str, form: dict[str, str], proof_key: ProofKey | None = None) -> dict[str, str]:
    try:
        with httpx.Client(timeout=15, verify=trusted(url)) as http:
            return _answer_of(sent(http, proven(httpx.Request("POST", url, data=form), proof_key)))
    except httpx.TransportError as error:
        raise unreachable(url, error) from error


def _answer_of(answer: httpx.Response) -> dict[str, str]:
    """Return the JSON of an OAuth answer, or raise what its error means."""
    try:
        body = answer.json()
    except ValueError as error:
        raise ServiceUnreachable(f"{answer.request.url} did not answer as an issuer does.") from error
    if answer.is_success:
        return dict(body)
    code, described = body.get("error", ""), body.get("error_description") or body.get("detail", "")
    if code in {"authorization_pending", "slow_down"}:
        raise Wait(5 if code == "slow_down" else 0)
    if answer.status_code == httpx.codes.TOO_MANY_REQUESTS:
        raise TooManyTries(described)
    if answer.status_code >= 500:
        raise ServiceUnreachable(described or "The issuer does not answer.", next_step="Try again in a few seconds.")
    raise NotSignedIn(f"{described or 'The issuer refused.'} ({code or answer.status_code})")


def unreachable(url: str, error: Exception) -> ServiceUnreachable:
    return ServiceUnreachable(
        f"Nothing answers at {httpx.URL(url).copy_with(query=None)} ({type(error).__name__}).",
        next_step="Check the address, and that the service runs.",
    )
