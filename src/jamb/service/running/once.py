"""What counts once, in all processes: ids of assertions and of proofs (RFC 7523 section 3, RFC 9449 section 11.1).

Those who come while a statement is under way are written by the next one: a commit each would cost more than the rest.
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any

from jamb.store.entry.tokens import SEE_ASSERTIONS

_Key = tuple[str, bytes]


@dataclass(slots=True)
class _Batch:
    """Keys of client and digest with their ends, and the statement that writes them: which of them were new."""

    ends: dict[_Key, datetime] = field(default_factory=dict)
    written: asyncio.Task[set[_Key]] | None = None


class Once:
    """As many wait as there are requests under way; each waits for two statements at most."""

    def __init__(self, rows: Callable[[str, dict[str, Any]], Awaitable[Sequence[tuple[Any, ...]]]]) -> None:
        self._rows = rows
        self._next = self._under_way = _Batch()
        self._turn = asyncio.Lock()

    async def first(self, client_id: str, digest: bytes, ends: datetime) -> bool:
        """Tell whether something of a client comes for the first time; it is remembered until it would run out anyway.

        Raises:
            StoreUnavailable: it cannot be told; then it may have been remembered, or not.
        """
        batch, key = self._next, (client_id, digest)
        if key in batch.ends or key in self._under_way.ends:
            return False
        batch.ends[key] = ends
        if batch.written is None:
            batch.written = asyncio.create_task(self._write(batch))
        # Who gives up takes nobody along.
        return key in await asyncio.shield(batch.written)

    async def _write(self, batch: _Batch) -> set[_Key]:
        async with self._turn:
            self._next, self._under_way = _Batch(), batch
            try:
                keys = sorted(batch.ends)
                values = {
                    "clients": [client for client, _ in keys],
                    "digests": [digest for _, digest in keys],
                    "ends": [batch.ends[key] for key in keys],
                }
                return {(client, bytes(digest)) for client, digest in await self._rows(SEE_ASSERTIONS, values)}
            finally:
                self._under_way = _Batch()
