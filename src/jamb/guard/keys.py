"""The issuer's keys: found by metadata (RFC 8414), read in the background, kept while the issuer is away.

A call with a token of a known key never waits for the issuer. One with an unknown key waits a little, once for all who
wait at that moment: a new key may have been published. Where the issuer cannot be asked, nobody's token is called bad.
"""

from __future__ import annotations

import logging
import threading
import time
from urllib.parse import urlsplit

import httpx
import jwt

from jamb.guard.refusals import Refused

REFRESH_SECONDS = 60
RETRY_SECONDS = 5
# How long a call with a token of an unknown key waits for the issuer.
WAIT_SECONDS = 2.0
_log = logging.getLogger("jamb.guard")


class IssuerKeys:
    """Keys by id. Safe to use from several threads; asks the issuer at most once in `RETRY_SECONDS`."""

    def __init__(self, issuer: str, http: httpx.Client | None = None) -> None:
        self._issuer = issuer
        self._http = http or httpx.Client(timeout=5)
        self._keys: dict[str, jwt.PyJWK] = {}
        self._read_at = self._tried_at = float("-inf")
        # Whether the issuer answered when it was asked last.
        self._heard = False
        self._reading: threading.Event | None = None
        self._lock = threading.Lock()

    def get(self, kid: str) -> jwt.PyJWK | None:
        """Return the key of an id, or None when the issuer publishes no such key.

        Raises:
            Refused: 503; the key is unknown, and the issuer does not say which keys there are.
        """
        found = self._keys.get(kid)
        if found is not None:
            if time.monotonic() - self._read_at > REFRESH_SECONDS:
                self.read_soon()
            return found
        reading = self.read_soon()
        if reading is not None:
            reading.wait(WAIT_SECONDS)
        found = self._keys.get(kid)
        if found is None and not self._heard:
            raise Refused(
                503, "temporarily_unavailable", "the issuer's keys cannot be read at present", reason="no-keys"
            )
        return found

    def close(self) -> None:
        """End the connection to the issuer."""
        self._http.close()

    def read_soon(self) -> threading.Event | None:
        """Read the keys in a thread; return what is set when they are read. None: they were asked for just now."""
        with self._lock:
            now = time.monotonic()
            if self._reading is not None:
                return self._reading
            if now - self._tried_at < RETRY_SECONDS:
                return None
            self._tried_at, self._reading = now, threading.Event()
            threading.Thread(target=self._read, args=(self._reading,), name="jamb issuer keys", daemon=True).start()
            return self._reading

    def _read(self, done: threading.Event) -> None:
        try:
            self._heard = self._refresh()
        finally:
            with self._lock:
                self._reading = None
            done.set()

    def _refresh(self) -> bool:
        try:
            metadata = self._http.get(metadata_address(self._issuer)).raise_for_status().json()
            if metadata["issuer"] != self._issuer:
                raise ValueError("the metadata is of another issuer")
            document = self._http.get(metadata["jwks_uri"]).raise_for_status().json()
            fresh = {key.key_id: key for key in jwt.PyJWKSet.from_dict(document).keys if key.key_id}
        except (httpx.HTTPError, ValueError, KeyError, TypeError, jwt.PyJWTError) as error:
            _log.warning("keys of %s not refreshed: %s", self._issuer, type(error).__name__)
            return False
        self._keys = fresh
        self._read_at = time.monotonic()
        return True


def metadata_address(issuer: str) -> str:
    """Return the address of an issuer's metadata: well-known part between host and path (RFC 8414 section 3.1)."""
    parts = urlsplit(issuer)
    return f"{parts.scheme}://{parts.netloc}/.well-known/oauth-authorization-server{parts.path}"
