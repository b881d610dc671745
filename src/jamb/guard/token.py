"""A guard's own access token (RFC 6749 section 4.4): fetched when needed, kept for most of its life."""

from __future__ import annotations

import threading
import time

import httpx

from jamb.guard.keys import metadata_address

# A younger one may not do what was refused; an older one may have been revoked with all others of its client.
YOUNG_SECONDS = 30.0


class OwnToken:
    """Fetches tokens for `audience` as client `client_id`. Safe to use from several threads."""

    def __init__(self, issuer: str, audience: str, client_id: str, client_secret: str, http: httpx.Client) -> None:
        self._issuer, self._audience, self._client = issuer, audience, (client_id, client_secret)
        self._http = http
        self._token, self._made, self._ends = "", 0.0, 0.0
        self._lock = threading.Lock()

    def __repr__(self) -> str:
        return f"OwnToken(client_id={self._client[0]!r})"

    def header(self) -> dict[str, str]:
        """Return the Authorization header. Raises `httpx.HTTPError`, `KeyError` or `ValueError` when there is none."""
        with self._lock:
            if time.monotonic() > self._ends:
                metadata = self._http.get(metadata_address(self._issuer)).raise_for_status().json()
                form = {"grant_type": "client_credentials", "resource": self._audience}
                answer = self._http.post(metadata["token_endpoint"], data=form, auth=self._client)
                granted = answer.raise_for_status().json()
                self._token = granted["access_token"]
                self._made = time.monotonic()
                self._ends = self._made + 0.8 * float(granted["expires_in"])
            return {"Authorization": f"Bearer {self._token}"}

    def answered(self, status: int) -> None:
        """Fetch another next time where an answer says that this one is not good, or not any more."""
        with self._lock:
            old = time.monotonic() - self._made >= YOUNG_SECONDS
            if status == httpx.codes.UNAUTHORIZED or (status == httpx.codes.FORBIDDEN and old):
                self._ends = 0.0
