"""The issuer's keys: found by metadata (RFC 8414), refreshed when an unknown id appears, kept while it is away."""

from __future__ import annotations

import logging
import threading
import time
from urllib.parse import urlsplit

import httpx
import jwt

REFRESH_SECONDS = 300
RETRY_SECONDS = 5
_log = logging.getLogger("jamb.guard")


class IssuerKeys:
    """Keys by id. Safe to use from several threads; asks the issuer at most once in `RETRY_SECONDS`."""

    def __init__(self, issuer: str, http: httpx.Client | None = None) -> None:
        self._issuer = issuer
        self._http = http or httpx.Client(timeout=5)
        self._keys: dict[str, jwt.PyJWK] = {}
        self._read_at = float("-inf")
        self._tried_at = float("-inf")
        self._lock = threading.Lock()

    def get(self, kid: str) -> jwt.PyJWK | None:
        now = time.monotonic()
        if kid not in self._keys or now - self._read_at > REFRESH_SECONDS:
            with self._lock:
                if now - self._tried_at >= RETRY_SECONDS and (
                    kid not in self._keys or now - self._read_at > REFRESH_SECONDS
                ):
                    self._tried_at = now
                    self._refresh(now)
        return self._keys.get(kid)

    def _refresh(self, now: float) -> None:
        try:
            metadata = self._http.get(metadata_address(self._issuer)).raise_for_status().json()
            if metadata["issuer"] != self._issuer:
                raise ValueError("the metadata is of another issuer")
            document = self._http.get(metadata["jwks_uri"]).raise_for_status().json()
            fresh = {key.key_id: key for key in jwt.PyJWKSet.from_dict(document).keys if key.key_id}
        except (httpx.HTTPError, ValueError, KeyError, jwt.PyJWTError) as error:
            _log.warning("keys of %s not refreshed: %s", self._issuer, type(error).__name__)
            return
        self._keys = fresh
        self._read_at = now


def metadata_address(issuer: str) -> str:
    """Return the address of an issuer's metadata: well-known part between host and path (RFC 8414 section 3.1)."""
    parts = urlsplit(issuer)
    return f"{parts.scheme}://{parts.netloc}/.well-known/oauth-authorization-server{parts.path}"
