"""The nouns of Jamb's API, each with its verbs."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from urllib.parse import quote
from uuid import UUID

from jamb.client.transport import Transport
from jamb.core.clients import ClientKind
from jamb.core.errors import BadInput, NotFound
from jamb.core.permissions import AccessKind
from jamb.wire.access import Explanation
from jamb.wire.clients import Client, Dossier
from jamb.wire.consent import Ask, ConsentPreview, Grant, WithdrawnConsent
from jamb.wire.credentials import Attempt, Credential, IssuedSecret, Sheet
from jamb.wire.ledger import LedgerEntry, Verification
from jamb.wire.resources import Proposal, Resource, ResourceLine


def _part(value: str) -> str:
    """Return a value as one part of a path, whatever is in it."""
    return quote(value, safe="") or "-"


class _Noun:
    def __init__(self, transport: Transport) -> None:
        self._transport = transport


class Clients(_Noun):
    def register(
        self, name: str, purpose: str, *, kind: ClientKind = ClientKind.SERVICE, owners: Sequence[str] = ()
    ) -> Client:
        """Register a client; the answer has its client id and what is left to do."""
        body = {"name": name, "purpose": purpose, "kind": kind.value, "owners": list(owners)}
        return self._transport.one(Client, "POST", "/clients", json=body)

    def change_owners(self, client_id: str, *, add: Sequence[str] = (), remove: Sequence[str] = ()) -> Client:
        """Add and remove owners, by login or id, in one step."""
        body = {"add": list(add), "remove": list(remove)}
        return self._transport.one(Client, "POST", f"/clients/{_part(client_id)}/owners", json=body)

    def list(self, *, q: str | None = None, attention: str | None = None, sort: str | None = None) -> Iterator[Client]:
        """Yield all matching clients, over all pages."""
        return self._transport.pages(Client, "/clients", {"q": q, "attention": attention, "sort": sort, "limit": 100})

    def read(self, client_id: str) -> Dossier:
        return self._transport.one(Dossier, "GET", f"/clients/{_part(client_id)}")

    def find(self, reference: str) -> Client:
        """Return the client of this id or exact name (any letter case). Raises `NotFound`, or `BadInput` if unclear."""
        wanted = reference.strip().casefold()
        found = [
            client for client in self.list(q=reference.strip()[:100]) if wanted in {client.id, client.name.casefold()}
        ]
        if len(found) == 1:
            return found[0]
        if found:
            raise BadInput.field("client", reference, "a client id: several clients fit this name")
        raise NotFound(f"There is no client “{reference}”.", next_step="Give its id or its whole name; see the list.")

    def attempts(self, client_id: str, *, failed: bool = False) -> Iterator[Attempt]:
        """Yield the client's token requests, newest first."""
        return self._transport.pages(Attempt, f"/clients/{_part(client_id)}/attempts", {"failed": failed, "limit": 100})

    def explain(self, client_id: str, resource: str, operation: str) -> Explanation:
        params = {"resource": resource, "operation": operation}
        return self._transport.one(Explanation, "GET", f"/clients/{_part(client_id)}/explanation", params=params)

    def sheets(self, client_id: str) -> Sequence[Sheet]:
        """Return the connection sheet of each resource, without a secret."""
        return self._transport.many(Sheet, "GET", f"/clients/{_part(client_id)}/sheet")


class Resources(_Noun):
    def list(self) -> Sequence[ResourceLine]:
        return self._transport.many(ResourceLine, "GET", "/resources")

    def read(self, name: str) -> Resource:
        return self._transport.one(Resource, "GET", f"/resources/{_part(name)}")

    def smallest(
        self,
        name: str,
        operations: Sequence[str],
        *,
        client: str | None = None,
        kind: AccessKind = AccessKind.APPLICATION,
    ) -> Proposal:
        """Return the smallest permissions that open these operations, beside what the client asks or holds already."""
        params: dict[str, object] = {"operation": list(operations), "kind": kind.value}
        if client is not None:
            params["client"] = client
        return self._transport.one(Proposal, "GET", f"/resources/{_part(name)}/proposal", params=params)


class Asks(_Noun):
    def add(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        reason: str = "",
    ) -> Sequence[Ask]:
        """Ask for permissions of one resource, all or none."""
        body = {"resource": resource, "permissions": list(permissions), "kind": kind.value, "reason": reason}
        return self._transport.many(Ask, "POST", f"/clients/{_part(client_id)}/asks", json=body)


class Consent(_Noun):
    def preview(self, client_id: str, *, asks: Sequence[UUID] | None = None) -> ConsentPreview:
        """Return what consent to the chosen asks, or to all that wait, would make possible."""
        params = {"asks": [str(ask) for ask in asks]} if asks else None
        return self._transport.one(ConsentPreview, "GET", f"/clients/{_part(client_id)}/consent", params=params)

    def grant(self, client_id: str, *, asks: Sequence[UUID] | None = None, reason: str = "") -> Sequence[Grant]:
        """Consent to the chosen asks, or to all that wait."""
        body: dict[str, object] = {"reason": reason}
        if asks is not None:
            body["asks"] = [str(ask) for ask in asks]
        return self._transport.many(Grant, "POST", f"/clients/{_part(client_id)}/consent", json=body)

    def withdraw(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        reason: str = "",
    ) -> WithdrawnConsent:
        """End the consent to permissions of one resource now; the asks stay."""
        body = {"resource": resource, "permissions": list(permissions), "kind": kind.value, "reason": reason}
        path = f"/clients/{_part(client_id)}/consent/withdrawal"
        return self._transport.one(WithdrawnConsent, "POST", path, json=body)


class Secrets(_Noun):
    def issue(self, client_id: str, *, days: int | None = None) -> IssuedSecret:
        """Issue a secret; this answer is the only one that ever has it."""
        return self._transport.one(IssuedSecret, "POST", f"/clients/{_part(client_id)}/secrets", json={"days": days})

    def list(self, client_id: str) -> Sequence[Credential]:
        return self._transport.one(Dossier, "GET", f"/clients/{_part(client_id)}").credentials

    def withdraw(self, client_id: str, credential_id: UUID, *, reason: str = "") -> Credential:
        path = f"/clients/{_part(client_id)}/credentials/{credential_id}/withdrawal"
        return self._transport.one(Credential, "POST", path, json={"reason": reason})


class Ledger(_Noun):
    def list(self, *, client: str | None = None) -> Iterator[LedgerEntry]:
        """Yield changes, newest first."""
        return self._transport.pages(LedgerEntry, "/ledger", {"client": client, "limit": 100})

    def verify(self) -> Verification:
        return self._transport.one(Verification, "GET", "/ledger/verification")
