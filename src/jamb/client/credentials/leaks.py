"""Secrets that leaked."""

from __future__ import annotations

from collections.abc import Sequence

from jamb.client.base.section import Section
from jamb.core.credentials.leaks import look_up_of
from jamb.wire.credentials.leaks import MOST_LOOKED_UP, LeakedSecret


class Leaks(Section):
    def look_up(self, secrets: Sequence[str]) -> list[LeakedSecret]:
        """Return what is known of each secret, in their order. Their SHA-256 is sent, never the secrets."""
        look_ups, found = [look_up_of(one) for one in secrets], []
        for start in range(0, len(look_ups), MOST_LOOKED_UP):
            body = {"look_ups": look_ups[start : start + MOST_LOOKED_UP]}
            found += self._transport.many(LeakedSecret, "POST", "/leaks", json=body)
        return found
