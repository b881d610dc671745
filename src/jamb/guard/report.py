"""Report what was used and what was refused, in batches, to whoever keeps the books. Never in the way of a request.

Calls are counted in memory and sent every few seconds with a token of the API's own client, in parts that fit one
request. A batch keeps its id until it is acknowledged, so that one whose answer was lost is not counted twice. Of one
that is refused the halves are sent, so that a row that cannot be counted takes no other with it.
"""

from __future__ import annotations

import json
import logging
import threading
from collections import deque
from collections.abc import Iterable, Iterator
from datetime import UTC, datetime
from typing import Any
from uuid import uuid4

import httpx

from jamb.guard.token import OwnToken

BATCH_SECONDS = 1.0
MOST_ROWS = 5000
# Of one request: below what the service reads (JAMB_MAX_BODY_BYTES), and what it takes in one batch.
LONGEST_BYTES = 400_000
MOST_ROWS_AT_ONCE = 2000
MOST_IN_ROW = 250
# Of the calls counted in one row: further objects or people are counted as nameless.
MOST_NAMES = 500
_log = logging.getLogger("jamb.guard")
_Key = tuple[str, str, str, str]
_RefusedKey = tuple[str, str, str, str, str, str]
# To which list of the report it belongs, and what is sent.
Row = tuple[str, dict[str, Any]]
# Answers after which the same would never be taken: too long, or not as it must be.
_NEVER = frozenset({httpx.codes.REQUEST_ENTITY_TOO_LARGE, httpx.codes.UNPROCESSABLE_ENTITY})


class UsageReporter:
    """Counts uses and refused calls and sends them to `url`, with a token of the resource's own client."""

    def __init__(self, url: str, resource: str, token: OwnToken, http: httpx.Client | None = None) -> None:
        self._url, self._resource, self._token = url, resource, token
        self._http = http or httpx.Client(timeout=5)
        self._refused: dict[_RefusedKey, tuple[int, datetime]] = {}
        self._counts: dict[_Key, tuple[int, datetime]] = {}
        self._objects: dict[_Key, dict[str, int]] = {}
        self._people: dict[_Key, set[str]] = {}
        self._uncounted = _Uncounted()
        self._unsent: deque[Batch] = deque()
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
                self._uncounted.add(1, now)
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
                elif person not in people:
                    self._uncounted.add(1, now)

    def refused(self, client_id: str, operation: str, kind: str, reason: str, name: str) -> None:
        """Count one refused call of a client whose token was genuine, with the object it was about, if any."""
        now = datetime.now(UTC)
        key = (client_id, operation, kind, reason, name[:200], now.date().isoformat())
        with self._lock:
            calls, _ = self._refused.get(key, (0, now))
            if calls or len(self._refused) < MOST_ROWS:
                self._refused[key] = (calls + 1, now)
            else:
                self._uncounted.add(1, now)

    def _run(self) -> None:
        while not self._stop.wait(BATCH_SECONDS):
            self._send_quietly()
        self._send_quietly()

    def _send_quietly(self) -> None:
        try:
            self._send()
        except Exception as error:  # noqa: BLE001 - whatever it is, what comes later is counted and sent
            _log.warning("usage of %s not reported, will retry: %s", self._resource, type(error).__name__)

    def _send(self) -> None:
        if not self._unsent:
            with self._lock:
                counts, self._counts = self._counts, {}
                refused, self._refused = self._refused, {}
                objects, self._objects = self._objects, {}
                people, self._people = self._people, {}
                uncounted, self._uncounted = self._uncounted, _Uncounted()
            if uncounted.calls:
                _log.error(
                    "%d calls of %s are not counted, or not for whom: more kinds of them than one report holds",
                    uncounted.calls,
                    self._resource,
                )
            rows = [*_uses(counts, objects, people), *_refusals(refused), *uncounted.rows()]
            self._unsent.extend(Batch(self._resource, part) for part in parted(rows))
        lost = _Uncounted()
        while self._unsent or lost.calls:
            if not self._unsent:
                self._unsent.append(Batch(self._resource, list(lost.rows())))
                lost = _Uncounted()
            batch = self._unsent[0]
            answer = self._http.post(self._url, json=batch.body(), headers=self._token.header())
            self._token.answered(answer.status_code)
            if answer.status_code in _NEVER:
                # Nothing of it was counted. In halves, so that what cannot be counted takes nothing else with it.
                self._unsent.popleft()
                self._unsent.extendleft(reversed(batch.halves()))
                if len(batch.rows) == 1:
                    _log.error("a use of %s was refused and is lost: %s", self._resource, answer.text[:300])
                    (kind, row) = batch.rows[0]
                    # That one is lost is not told again: a service that cannot take this never does.
                    lost.add(0 if kind == "uncounted" else row["calls"], datetime.now(UTC))
                continue
            answer.raise_for_status()
            self._unsent.popleft()


class _Uncounted:
    """Calls that no row holds: between when they were, so that nothing is called unused by them."""

    def __init__(self) -> None:
        self.calls = 0
        self._since = self._until = datetime.now(UTC)

    def add(self, calls: int, at: datetime) -> None:
        self._since = self._since if self.calls else at
        self.calls, self._until = self.calls + calls, at

    def rows(self) -> Iterator[Row]:
        if self.calls:
            yield (
                "uncounted",
                {"calls": self.calls, "since": self._since.isoformat(), "until": self._until.isoformat()},
            )


def _uses(
    counts: dict[_Key, tuple[int, datetime]], objects: dict[_Key, dict[str, int]], people: dict[_Key, set[str]]
) -> Iterator[Row]:
    for key, (calls, last) in counts.items():
        client, operation, kind, _ = key
        common = {"client_id": client, "operation": operation, "kind": kind, "last_at": last.isoformat()}
        named = list(objects.get(key, {}).items())
        whom = sorted(people.get(key, ()))
        # Of long lists each part is a row of its own, with its share of the calls.
        parts = [dict(named[start : start + MOST_IN_ROW]) for start in range(0, len(named), MOST_IN_ROW)] or [{}]
        for number, part in enumerate(parts):
            share = calls - sum(calls for _, calls in named) if number == 0 else 0
            yield (
                "uses",
                {
                    **common,
                    "calls": share + sum(part.values()),
                    "objects": part,
                    "people": whom if number == 0 else [],
                },
            )


def _refusals(refused: dict[_RefusedKey, tuple[int, datetime]]) -> Iterator[Row]:
    for (client, operation, kind, reason, name, _day), (calls, last) in refused.items():
        yield (
            "refusals",
            {
                "client_id": client,
                "operation": operation,
                "kind": kind,
                "reason": reason,
                "object": name,
                "calls": calls,
                "last_at": last.isoformat(),
            },
        )


def parted(rows: Iterable[Row]) -> Iterator[list[Row]]:
    """Part the rows into lists, each short enough for one request."""
    part: list[Row] = []
    length = 0
    for row in rows:
        size = len(json.dumps(row[1], ensure_ascii=False).encode())
        if part and (length + size > LONGEST_BYTES or len(part) >= MOST_ROWS_AT_ONCE):
            yield part
            part, length = [], 0
        part.append(row)
        length += size
    if part:
        yield part


class Batch:
    """Rows under an id that stays until they are acknowledged, so that nothing is counted twice."""

    def __init__(self, resource: str, rows: list[Row]) -> None:
        self.rows = rows
        self._body: dict[str, Any] = {"batch": str(uuid4()), "resource": resource, "uses": [], "refusals": []}
        for kind, row in rows:
            self._body.setdefault(kind, []).append(row)

    def body(self) -> dict[str, Any]:
        return self._body

    def halves(self) -> list[Batch]:
        """Return two batches of half of the rows each; none where there is but one row."""
        middle = len(self.rows) // 2
        resource = self._body["resource"]
        return [Batch(resource, self.rows[:middle]), Batch(resource, self.rows[middle:])] if middle else []
