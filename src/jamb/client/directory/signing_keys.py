"""The keys that sign a directory's tokens."""

from __future__ import annotations

from collections.abc import Sequence

from jamb.client.base.section import Section, path_segment
from jamb.wire.directory.signing_keys import KeyWithdrawn, SigningKey


class SigningKeys(Section):
    def list(self) -> Sequence[SigningKey]:
        """Return the keys that sign, and those that did, newest first."""
        return self._transport.many(SigningKey, "GET", "/signing-keys")

    def rotate(self, reason: str = "") -> SigningKey:
        """Publish a new key; it signs a quarter of an hour later. Raises `Conflict` where one is published already."""
        return self._transport.one(SigningKey, "POST", "/signing-keys", json={"reason": reason})

    def withdraw(self, key: str, reason: str) -> KeyWithdrawn:
        """Withdraw a key: whatever it signed is refused from then on, by guards within a minute."""
        path = f"/signing-keys/{path_segment(key)}/withdrawal"
        return self._transport.one(KeyWithdrawn, "POST", path, json={"reason": reason})
