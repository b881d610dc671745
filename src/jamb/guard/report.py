"""Report what was used and what was refused, in batches, to whoever keeps the books. Never in the way of a request.

Calls are counted in memory and sent every few seconds with a token of the API's own client. A batch keeps its id until
it is acknowledged, so that one whose answer was lost is not counted twice.
"""

from __future__ import annotations

import logging
import threading
from datetime import UTC, datetime
from typing import Any
from uuid import uuid4

import httpx

from jamb.guard.token import OwnToken

BATCH_SECONDS = 1.0
MOST_ROWS = 5000
# Of the calls counted in one row: further objects or people are counted as nameless.
MOST_NAMES = 500
_log = logging.getLogger("jamb.guard")
_Key = tuple[str, str, str, str]
_RefusedKey = tuple[str, str, str, str, str, str]


class UsageReporter:
    """Counts uses and refused calls and sends them to `url`, with a token of the resource's own client."""

    def __init__(self, url: str, resource: str, token: OwnToken, http: httpx.Client | None = None) -> None:
        self._url, self._resource, self._token = url, resource, token
        self._http = http or httpx.Client(timeout=5)
        self._refused: dict[_RefusedKey, tuple[int, datetime]] = {}
        self._counts: dict[_Key, tuple[int, datetime]] = {}
        self._objects: dict[_Key, dict[str, int]] = {}
        self._people: dict[_Key, set[str]] = {}
        self._unsent: dict[str, Any] | None = None
        self._lock = threading.Lock()
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="jamb usage reports", daemon=True)

    def __repr__(self) -> str:
        return f"UsageReporter(resource={self._resource!r}, token={self._token!r})"

    def start(self) -> None:
        self._thread.start()

    def close(self) -> None:
        """Send what is left and stop."""
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join(timeout=10)

    def used(self, client_id: str, operation: str, kind: str, name: str | None = None, person: str = "") -> None:
        """Count one call: of which object, where it is about one, and for whom. Costs a few dictionary updates."""
        now = datetime.now(UTC)
        key = (client_id, operation, kind, now.date().isoformat())
        with self._lock:
            calls, _ = self._counts.get(key, (0, now))
            if not calls and len(self._counts) >= MOST_ROWS:
                return
            self._counts[key] = (calls + 1, now)
            if name is not None:
                objects = self._objects.setdefault(key, {})
                known = name[:200] if name[:200] in objects or len(objects) < MOST_NAMES else ""
                objects[known] = objects.get(known, 0) + 1
            if person:
                people = self._people.setdefault(key, set())
                if len(people) < MOST_NAMES:
                    people.add(person)

    def refused(self, client_id: str, operation: str, kind: str, reason: str, name: str) -> None:
        """Count one refused call of a client whose token was genuine, with the object it was about, if any."""
        now = datetime.now(UTC)
        key = (client_id, operation, kind, reason, name[:200], now.date().isoformat())
        with self._lock:
            calls, _ = self._refused.get(key, (0, now))
            if calls or len(self._refused) < MOST_ROWS:
                self._refused[key] = (calls + 1, now)

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
                refused, self._refused = self._refused, {}
                objects, self._objects = self._objects, {}
                people, self._people = self._people, {}
            if not counts and not refused:
                return
            uses = [
                {
                    "client_id": client,
                    "operation": operation,
                    "kind": kind,
                    "calls": calls,
                    "last_at": last.isoformat(),
                    "objects": objects.get((client, operation, kind, day), {}),
                    "people": sorted(people.get((client, operation, kind, day), ())),
                }
                for (client, operation, kind, day), (calls, last) in counts.items()
            ]
            refusals = [
                {
                    "client_id": client,
                    "operation": operation,
                    "kind": kind,
                    "reason": reason,
                    "object": name,
                    "calls": calls,
                    "last_at": last.isoformat(),
                }
                for (client, operation, kind, reason, name, _day), (calls, last) in refused.items()
            ]
            self._unsent = {"batch": str(uuid4()), "resource": self._resource, "uses": uses, "refusals": refusals}
        answer = self._http.post(self._url, json=self._unsent, headers=self._token.header())
        if answer.status_code == httpx.codes.UNAUTHORIZED:
            self._token.forget()
        if answer.status_code == httpx.codes.UNPROCESSABLE_ENTITY:
            # It will never be acceptable: say so and go on, rather than stand still for ever.
            _log.error("a usage report of %s was refused: %s", self._resource, answer.text[:300])
        else:
            answer.raise_for_status()
        self._unsent = None
