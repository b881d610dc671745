"""The ledger."""

from __future__ import annotations

from collections.abc import Iterator

from jamb.client.base.section import Section
from jamb.wire.directory.ledger import LedgerEntry, Verification


class Ledger(Section):
    def list(self, *, client: str | None = None) -> Iterator[LedgerEntry]:
        """Yield changes, newest first."""
        return self._transport.pages(LedgerEntry, "/ledger", {"client": client, "limit": 100})

    def verify(self) -> Verification:
        return self._transport.one(Verification, "GET", "/ledger/verification")
