"""Initial access tokens: let software register clients of its own (RFC 7591 section 3)."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from jamb.client.base.section import Section
from jamb.core.clients.initial_access import DEFAULT_DAYS
from jamb.wire.clients.initial_access import InitialAccess


class InitialAccessTokens(Section):
    def list(self) -> Sequence[InitialAccess]:
        """Return the latest, the newest first, without what opens them."""
        return self._transport.many(InitialAccess, "GET", "/initial-access-tokens")

    def make(self, label: str, *, uses: int = 1, days: int = DEFAULT_DAYS, owners: Sequence[str] = ()) -> InitialAccess:
        """Make one for so many clients; its `token` is shown in this answer alone.

        Args:
            label: who is given it, or what for.
            owners: logins or ids of those who will own what is registered; whoever calls, if empty.
        """
        body = {"label": label, "uses": uses, "days": days, "owners": [*owners]}
        return self._transport.one(InitialAccess, "POST", "/initial-access-tokens", json=body)

    def withdraw(self, access_id: UUID) -> InitialAccess:
        """End one that is open; what was registered with it stays."""
        return self._transport.one(InitialAccess, "POST", f"/initial-access-tokens/{access_id}/withdrawal")
