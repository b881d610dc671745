"""Credentials."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID

from jamb.client.noun import Noun, part
from jamb.wire.clients import Dossier
from jamb.wire.credentials import Credential, IssuedSecret


class Secrets(Noun):
    def issue(self, client_id: str, *, days: int | None = None) -> IssuedSecret:
        """Issue a secret; this answer is the only one that ever has it."""
        return self._transport.one(IssuedSecret, "POST", f"/clients/{part(client_id)}/secrets", json={"days": days})

    def list(self, client_id: str) -> Sequence[Credential]:
        return self._transport.one(Dossier, "GET", f"/clients/{part(client_id)}").credentials

    def withdraw(self, client_id: str, credential_id: UUID, *, reason: str = "") -> Credential:
        path = f"/clients/{part(client_id)}/credentials/{credential_id}/withdrawal"
        return self._transport.one(Credential, "POST", path, json={"reason": reason})
