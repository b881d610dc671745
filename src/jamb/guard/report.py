"""Report what was used, in batches, to whoever keeps the books. Never in the way of a request.

Calls are counted in memory and sent every few seconds with a token of the API's own client. A batch keeps its id until
it is acknowledged, so that one whose answer was lost is not counted twice.
"""

from __future__ import annotations

import logging
import threading
import time
from datetime import UTC, datetime
from typing import Any
from uuid import uuid4

import httpx

from jamb.guard.keys import metadata_address

BATCH_SECONDS = 1.0
MOST_ROWS = 5000
_log = logging.getLogger("jamb.guard")
_Key = tuple[str, str, str, str]


class UsageReporter:
    """Counts uses and sends them to `report_url` with a token for `report_audience`, as client `client_id`."""

    def __init__(
        self,
        issuer: str,
        report_url: str,
        report_audience: str,
        resource: str,
        client_id: str,
        client_secret: str,
        http: httpx.Client | None = None,
    ) -> None:
        self._issuer, self._url, self._audience = issuer, report_url, report_audience
        self._resource, self._client = resource, (client_id, client_secret)
        self._http = http or httpx.Client(timeout=5)
        self._counts: dict[_Key, tuple[int, datetime]] = {}
        self._unsent: dict[str, Any] | None = None
        self._token, self._token_ends = "", 0.0
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="jamb usage reports", daemon=True)

    def __repr__(self) -> str:
        return f"UsageReporter(resource={self._resource!r}, client_id={self._client[0]!r})"

    def start(self) -> None:
        self._thread.start()

    def close(self) -> None:
        """Send what is left and stop."""
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join(timeout=10)

    def used(self, client_id: str, operation: str, kind: str) -> None:
        """Count one call. Costs a dictionary update."""
        now = datetime.now(UTC)
        key = (client_id, operation, kind, now.date().isoformat())
        with self._lock:
            calls, _ = self._counts.get(key, (0, now))
            if calls or len(self._counts) < MOST_ROWS:
                self._counts[key] = (calls + 1, now)

    def _run(self) -> None:
        while not self._stop.wait(BATCH_SECONDS):
            self._send_quietly()
        self._send_quietly()

    def _send_quietly(self) -> None:
        try:
            self._send()
        except (httpx.HTTPError, KeyError, ValueError) as error:
            _log.warning("usage of %s not reported, will retry: %s", self._resource, type(error).__name__)

    def _send(self) -> None:
        if self._unsent is None:
            with self._lock:
                counts, self._counts = self._counts, {}
            if not counts:
                return
            uses = [
                {"client_id": client, "operation": operation, "kind": kind, "calls": calls, "last_at": last.isoformat()}
                for (client, operation, kind, _day), (calls, last) in counts.items()
            ]
            self._unsent = {"batch": str(uuid4()), "resource": self._resource, "uses": uses}
        answer = self._http.post(self._url, json=self._unsent, headers={"Authorization": f"Bearer {self._fresh()}"})
        if answer.status_code == httpx.codes.UNPROCESSABLE_ENTITY:
            # It will never be acceptable: say so and go on, rather than stand still for ever.
            _log.error("a usage report of %s was refused: %s", self._resource, answer.text[:300])
        else:
            answer.raise_for_status()
        self._unsent = None

    def _fresh(self) -> str:
        if time.monotonic() > self._token_ends:
            metadata = self._http.get(metadata_address(self._issuer)).raise_for_status().json()
            form = {"grant_type": "client_credentials", "resource": self._audience}
            answer = self._http.post(metadata["token_endpoint"], data=form, auth=self._client).raise_for_status().json()
            self._token = answer["access_token"]
            self._token_ends = time.monotonic() + 0.8 * float(answer["expires_in"])
        return self._token
