"""Where a token's permissions count (RFC 9396), and what the issuer has taken away since it was made.

An entry of the token's `authorization_details` of type `urn:jamb:reach` names permissions (`privileges`) and the
collections of objects within which alone they count (`only`), or without which (`all_but`). A permission that no entry
names counts everywhere; one that several name counts where any of them does. Which object lies in which collection the
guard reads from the issuer, together with what was taken away from tokens that still live: one read waits there until
there is something new (`Prefer: wait`, RFC 7240 section 4.3), then the next one does. It keeps what it read last while
the issuer is away; before it has read anything, bounded permissions are refused.
"""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import httpx

from jamb.guard.operations import Operations, operations_of
from jamb.guard.token import OwnToken

TYPE = "urn:jamb:reach"
# From one read to the next, at least.
PAUSE_SECONDS = 1.0
# For so long the issuer may hold back the answer that nothing is new, and for so long an answer may take besides.
WAIT_SECONDS = 20
ANSWER_SECONDS = 5.0
# After a read that failed as it waited none waits for so long: what is between may give up before the issuer answers.
IMPATIENT_SECONDS = 60.0
# A read that still waits as the guard is closed is left behind.
CLOSE_SECONDS = 1.0
# Collections are read anew after this time, though they did not change: a restored database has older numbers again.
COLLECTIONS_SECONDS = 60.0
_log = logging.getLogger("jamb.guard")


@dataclass(frozen=True, slots=True)
class Extent:
    """Collections within which something counts, or with `inverted` without which; everywhere is without none."""

    collections: frozenset[str]
    inverted: bool

    def holds(self, name: str, members: Mapping[str, frozenset[str]]) -> bool:
        """Tell whether the object counts. A collection that is not known holds nothing, and is left out nowhere."""
        inside = any(name in members.get(path, ()) for path in self.collections)
        return inside is not self.inverted


# Any of the inner ones, for each of the outer ones.
Limits = tuple[tuple[Extent, ...], ...]


def limits_of(details: Any) -> dict[str, Limits]:
    """Return the bounds that a token carries, by permission. Raises `ValueError` for details that are not lists."""
    found: dict[str, tuple[Extent, ...]] = {}
    if details is None:
        return {}
    if not isinstance(details, list):
        raise ValueError("authorization_details is not a list")
    for entry in details:
        if not isinstance(entry, dict) or entry.get("type") != TYPE:
            raise ValueError("authorization_details of a type that this guard does not know")
        extent = extent_of(entry)
        for name in entry.get("privileges", ()):
            found[name] = (*found.get(name, ()), extent)
    return {name: (extents,) for name, extents in found.items()}


def extent_of(members: Mapping[str, Any]) -> Extent:
    if ("only" in members) is ("all_but" in members):
        raise ValueError("an entry has either only or all_but")
    inverted = "all_but" in members
    return Extent(frozenset(members["all_but" if inverted else "only"]), inverted)


@dataclass(frozen=True, slots=True)
class _Entry:
    kind: str | None
    subject: str | None
    until: int
    permissions: tuple[str, ...] | None
    extents: tuple[Extent, ...]


@dataclass(frozen=True, slots=True)
class Revocations:
    """What the issuer said last."""

    entries: Mapping[str, tuple[_Entry, ...]]
    members: Mapping[str, frozenset[str]]

    def taken_away(self, client_id: str, subject: str, issued_at: int) -> dict[str, Limits] | None:
        """Return further bounds of a token by permission; None when nothing of it counts any more."""
        found: dict[str, Limits] = {}
        kind = "application" if subject == client_id else "delegated"
        for entry in (*self.entries.get(client_id, ()), *self.entries.get("", ())):
            if issued_at > entry.until or entry.kind not in (None, kind) or entry.subject not in (None, subject):
                continue
            if entry.permissions is None:
                return None
            for name in entry.permissions:
                found[name] = (*found.get(name, ()), entry.extents)
        return found


NOTHING_REVOKED = Revocations({}, {})


class RevocationsReader:
    """Keeps the revocations of the issuer fresh in a thread of its own. `url`: where its own client reads them.

    `operations` keeps the resource's operations fresh, too, once `with_operations` is set.
    """

    def __init__(self, url: str, resource: str, token: OwnToken, http: httpx.Client | None = None) -> None:
        self._url, self._resource, self._token = url, resource, token
        self.with_operations = False
        self.operations: Operations | None = None
        self._http = http or httpx.Client(timeout=ANSWER_SECONDS)
        self._revocations: Revocations | None = None
        # By which the issuer knows whether it would say the same again (RFC 9110 section 8.8.3).
        self._tag = ""
        # Which collections are known, and since when.
        self._collections: tuple[int, float] | None = None
        self._stop = threading.Event()
        self._thread = threading.Thread(target=self._run, name="jamb revocations", daemon=True)

    @property
    def revocations(self) -> Revocations | None:
        """What was read last; None before anything was."""
        return self._revocations

    def start(self) -> None:
        self._thread.start()

    def close(self) -> None:
        self._stop.set()
        if self._thread.is_alive():
            self._thread.join(timeout=CLOSE_SECONDS)

    def refresh(self, wait: int = 0) -> None:
        """Read the revocations once; what was read before stays where that fails.

        Args:
            wait: seconds for which the issuer may hold back the answer that nothing is new.

        Raises:
            httpx.HTTPError, KeyError, ValueError: there was no answer, or none that can be read.
        """
        params: dict[str, str | int] = {"resource": self._resource}
        if self.with_operations:
            params["known_revision"] = self.operations.revision if self.operations is not None else 0
        known = self._collections
        if known is not None and time.monotonic() - known[1] < COLLECTIONS_SECONDS:
            params["known_collections"] = known[0]
        headers = self._token.header()
        if self._tag:
            headers |= {"If-None-Match": self._tag, "Prefer": f"wait={wait}"}
        answer = self._http.get(self._url, params=params, headers=headers, timeout=ANSWER_SECONDS + wait)
        if answer.status_code == httpx.codes.NOT_MODIFIED:
            return
        self._token.answered(answer.status_code)
        body = answer.raise_for_status().json()
        before = self._revocations
        self._revocations = revocations_of(body, before.members if before is not None else {})
        if body["collections"] is not None:
            revision = body.get("collections_revision")
            self._collections = (int(revision), time.monotonic()) if revision is not None else None
        if body.get("operations") is not None:
            self.operations = operations_of(body)
        # Last: what could not be read is to come again.
        self._tag = answer.headers.get("ETag", "")

    def _run(self) -> None:
        given_up_at = -IMPATIENT_SECONDS
        while True:
            began = time.monotonic()
            try:
                self.refresh(WAIT_SECONDS if began - given_up_at >= IMPATIENT_SECONDS else 0)
            except (httpx.HTTPError, KeyError, ValueError) as error:
                if time.monotonic() - began > PAUSE_SECONDS:
                    given_up_at = time.monotonic()
                if not self._stop.is_set():
                    _log.warning("revocations of %s not refreshed: %s", self._resource, type(error).__name__)
            if self._stop.wait(max(0.0, began + PAUSE_SECONDS - time.monotonic())):
                return


def revocations_of(body: Mapping[str, Any], members: Mapping[str, frozenset[str]]) -> Revocations:
    """Return what the issuer says. `members`: its collections as they are known, for when it leaves them out."""
    entries: dict[str, list[_Entry]] = {}
    for one in body["revocations"]:
        permissions = tuple(one["permissions"]) if one["permissions"] is not None else None
        extents = tuple(extent_of(extent) for extent in one["reach"])
        entry = _Entry(one["kind"], one["subject"], int(one["until"]), permissions, extents)
        entries.setdefault(one["client_id"], []).append(entry)
    if body["collections"] is not None:
        members = {path: frozenset(objects) for path, objects in body["collections"].items()}
    return Revocations({key: tuple(rows) for key, rows in entries.items()}, members)


def within(limits: Iterable[tuple[Extent, ...]], name: str, members: Mapping[str, frozenset[str]]) -> bool:
    return all(any(extent.holds(name, members) for extent in extents) for extents in limits)
