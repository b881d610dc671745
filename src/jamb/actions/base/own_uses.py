"""Calls of clients at Jamb's own API, counted in the process until they are written: a guard makes one a second."""

from __future__ import annotations

import threading
from collections.abc import Mapping
from dataclasses import replace
from datetime import date
from uuid import UUID

from sqlalchemy import Engine
from sqlalchemy.exc import IntegrityError

from jamb.core.ladder import Use
from jamb.core.permissions import AccessKind
from jamb.store.base.work import observation
from jamb.store.resources import usage

_Key = tuple[UUID, str, str, AccessKind, date]


class OwnUses:
    """What is not written yet: one entry for each client, operation and day, so that it is bounded by these."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._counted: dict[_Key, Use] = {}

    def note(self, resource_id: UUID, client_id: str, use: Use) -> None:
        """Count calls of a client; from any thread."""
        self._add({(resource_id, client_id, use.operation, use.kind, use.day): use})

    def write(self, engine: Engine) -> int:
        """Write what was counted; return how many entries the database would not have, which are left out.

        Raises:
            SQLAlchemyError: the database is away. What was counted is kept for the next time.
        """
        with self._lock:
            counted, self._counted = self._counted, {}
        try:
            return self._write(engine, counted)
        except BaseException:
            self._add(counted)
            raise

    def _write(self, engine: Engine, counted: Mapping[_Key, Use]) -> int:
        if not counted:
            return 0
        try:
            with observation(engine) as session:
                for resource_id in sorted({key[0] for key in counted}):
                    uses = [(key[1], use) for key, use in counted.items() if key[0] == resource_id]
                    usage.add_uses(session, resource_id, uses)
        except IntegrityError:
            if len(counted) == 1:
                return 1
            return sum(self._write(engine, {key: use}) for key, use in counted.items())
        return 0

    def _add(self, counted: Mapping[_Key, Use]) -> None:
        with self._lock:
            for key, use in counted.items():
                before = self._counted.get(key, replace(use, calls=0))
                calls, last_at = before.calls + use.calls, max(before.last_at, use.last_at)
                self._counted[key] = replace(use, calls=calls, last_at=last_at)
