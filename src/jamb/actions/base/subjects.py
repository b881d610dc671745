"""What the ledger says an entry is about."""

from __future__ import annotations

from jamb.store.clients import clients
from jamb.store.credentials.credentials import CredentialRow


def client_subject(row: clients.ClientRow) -> dict[str, str]:
    return {"kind": "client", "client": row.id, "name": row.name}


def credential_subject(row: CredentialRow) -> dict[str, str]:
    return {"kind": "credential", "id": str(row.id), "name": row.hint, "client": row.client_id}
