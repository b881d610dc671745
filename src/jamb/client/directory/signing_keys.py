"""The keys that sign a directory's tokens."""

from __future__ import annotations

from collections.abc import Sequence

from jamb.client.base.section import Section, path_segment
from jamb.core.directory.signing_keys import SigningAlgorithm
from jamb.wire.directory.signing_keys import KeyRotation, KeyWithdrawn, SigningKey


class SigningKeys(Section):
    def list(self) -> Sequence[SigningKey]:
        """Return the keys that sign, and those that did, newest first."""
        return self._transport.many(SigningKey, "GET", "/signing-keys")

    def rotate(self, reason: str = "", algorithm: SigningAlgorithm = SigningAlgorithm.ES256) -> SigningKey:
        """Publish a new key of an algorithm; it signs a quarter of an hour later.

        Raises `Conflict` where one of that algorithm is published already.
        """
        wanted = KeyRotation(reason=reason, algorithm=algorithm)
        return self._transport.one(SigningKey, "POST", "/signing-keys", json=wanted)

    def withdraw(self, key: str, reason: str) -> KeyWithdrawn:
        """Withdraw a key: whatever it signed is refused from then on, by guards within a minute."""
        path = f"/signing-keys/{path_segment(key)}/withdrawal"
        return self._transport.one(KeyWithdrawn, "POST", path, json={"reason": reason})
