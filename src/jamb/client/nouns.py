"""The nouns of Jamb's API, each with its verbs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from urllib.parse import quote
from uuid import UUID

from jamb.client.transport import Transport
from jamb.core.clients import ClientKind, OwnerLevel
from jamb.core.errors import BadInput, NotFound
from jamb.core.permissions import AccessKind, DataClass
from jamb.wire.access import Explanation, Holders
from jamb.wire.clients import Client, CutOff, Dossier
from jamb.wire.consent import (
    Ask,
    ConsentPreview,
    Grant,
    ListReview,
    ReachChanged,
    Takeover,
    TakeoverChoice,
    Terms,
    WithdrawnConsent,
)
from jamb.wire.credentials import Attempt, Credential, IssuedSecret, Sheet
from jamb.wire.ledger import LedgerEntry, Verification
from jamb.wire.reach import Collections, CollectionSent, ReachSent, ReachSheet
from jamb.wire.requests import ConsentRequest, RequestDossier
from jamb.wire.resources import DraftedOperations, Proposal, Resource, ResourceChange, ResourceLine, ResourceSent
from jamb.wire.usage import Refusals


def part(value: str) -> str:
    """Return a value as one part of a path, whatever is in it."""
    return quote(value, safe="") or "-"


class Noun:
    """A part of the API that speaks through one transport."""

    def __init__(self, transport: Transport) -> None:
        self._transport = transport


class Clients(Noun):
    def register(
        self, name: str, purpose: str, *, kind: ClientKind = ClientKind.SERVICE, owners: Sequence[str] = ()
    ) -> Client:
        """Register a client; the answer has its client id and what is left to do."""
        body = {"name": name, "purpose": purpose, "kind": kind.value, "owners": list(owners)}
        return self._transport.one(Client, "POST", "/clients", json=body)

    def change_owners(
        self,
        client_id: str,
        *,
        add: Sequence[str] = (),
        remove: Sequence[str] = (),
        level: OwnerLevel = OwnerLevel.FULL,
    ) -> Client:
        """Add owners of a level and remove owners, by login or id, in one step."""
        body = {"add": list(add), "remove": list(remove), "level": level.value}
        return self._transport.one(Client, "POST", f"/clients/{part(client_id)}/owners", json=body)

    def list(self, *, q: str | None = None, attention: str | None = None, sort: str | None = None) -> Iterator[Client]:
        """Yield all matching clients, over all pages."""
        return self._transport.pages(Client, "/clients", {"q": q, "attention": attention, "sort": sort, "limit": 100})

    def read(self, client_id: str) -> Dossier:
        return self._transport.one(Dossier, "GET", f"/clients/{part(client_id)}")

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
        return self._transport.pages(Attempt, f"/clients/{part(client_id)}/attempts", {"failed": failed, "limit": 100})

    def refusals(self, client_id: str) -> Sequence[Refusals]:
        """Return the calls that protected APIs refused, latest first."""
        return self._transport.many(Refusals, "GET", f"/clients/{part(client_id)}/refusals", params={"limit": 100})

    def explain(
        self,
        client_id: str,
        resource: str,
        operation: str,
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        person: str | None = None,
        object: str | None = None,  # noqa: A002 - the word of the plan
        token: str | None = None,
    ) -> Explanation:
        """Return every check behind a decision and the smallest mend. `token`: an access token to judge too."""
        body = {
            "resource": resource,
            "operation": operation,
            "kind": kind.value,
            "person": person,
            "object": object,
            "token": token,
        }
        return self._transport.one(Explanation, "POST", f"/clients/{part(client_id)}/explanation", json=body)

    def reach(self, client_id: str, resource: str, *, object: str | None = None) -> ReachSheet:  # noqa: A002
        """Return what the client can and cannot touch at a resource; with an object, the decision on it too."""
        params = {"resource": resource, **({"object": object} if object is not None else {})}
        return self._transport.one(ReachSheet, "GET", f"/clients/{part(client_id)}/reach", params=params)

    def disable(self, client_id: str, *, reason: str = "") -> Client:
        """Disable a client; its tokens are cut off."""
        return self._state(client_id, "disabled", reason)

    def enable(self, client_id: str, *, reason: str = "") -> Client:
        return self._state(client_id, "live", reason)

    def cut_off(self, client_id: str, *, reason: str = "") -> CutOff:
        """Have every token that the client holds refused; new ones count."""
        return self._transport.one(CutOff, "POST", f"/clients/{part(client_id)}/cut-off", json={"reason": reason})

    def _state(self, client_id: str, state: str, reason: str) -> Client:
        body = {"state": state, "reason": reason}
        return self._transport.one(Client, "POST", f"/clients/{part(client_id)}/state", json=body)

    def sheets(self, client_id: str) -> Sequence[Sheet]:
        """Return the connection sheet of each resource, without a secret."""
        return self._transport.many(Sheet, "GET", f"/clients/{part(client_id)}/sheet")


class Resources(Noun):
    def publish(self, name: str, resource: ResourceSent) -> ResourceChange:
        """Publish a resource, or put this in place of what it is."""
        body = resource.model_dump(mode="json")
        return self._transport.one(ResourceChange, "PUT", f"/resources/{part(name)}", json=body)

    def preview(self, name: str, resource: ResourceSent) -> ResourceChange:
        """Return what publishing this would change, and for which clients. Changes nothing."""
        body = resource.model_dump(mode="json")
        return self._transport.one(ResourceChange, "POST", f"/resources/{part(name)}/preview", json=body)

    def draft(self, document: dict[str, object], *, data_class: DataClass = DataClass.INTERNAL) -> DraftedOperations:
        """Return the operations that an OpenAPI 3.1 document describes, to be corrected and published."""
        body = {"document": document, "data_class": data_class.value}
        return self._transport.one(DraftedOperations, "POST", "/resources/draft", json=body)

    def collections(self, name: str) -> Collections:
        return self._transport.one(Collections, "GET", f"/resources/{part(name)}/collections")

    def replace_collections(self, name: str, collections: Sequence[CollectionSent]) -> Collections:
        """Put these collections in place of those a resource has."""
        body = {"collections": [one.model_dump(mode="json") for one in collections]}
        return self._transport.one(Collections, "PUT", f"/resources/{part(name)}/collections", json=body)

    def who_can(self, name: str, operation: str, *, object: str | None = None) -> Holders:  # noqa: A002
        """Return all clients and people who can do an operation, and through what."""
        params = {"operation": operation, **({"object": object} if object is not None else {})}
        return self._transport.one(Holders, "GET", f"/resources/{part(name)}/holders", params=params)

    def list(self) -> Sequence[ResourceLine]:
        return self._transport.many(ResourceLine, "GET", "/resources")

    def read(self, name: str) -> Resource:
        return self._transport.one(Resource, "GET", f"/resources/{part(name)}")

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
        return self._transport.one(Proposal, "GET", f"/resources/{part(name)}/proposal", params=params)


class Asks(Noun):
    def add(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        reason: str = "",
        reach: ReachSent | None = None,
    ) -> Sequence[Ask]:
        """Ask for permissions of one resource, all or none, with the reach wished for."""
        body: dict[str, object] = {
            "resource": resource,
            "permissions": list(permissions),
            "kind": kind.value,
            "reason": reason,
        }
        if reach is not None:
            body["reach"] = reach.model_dump(mode="json")
        return self._transport.many(Ask, "POST", f"/clients/{part(client_id)}/asks", json=body)

    def review(self, client_id: str, text: str, *, kind: AccessKind = AccessKind.APPLICATION) -> ListReview:
        """Say of a list from a manual what is known, redundant, heavy or unknown. Saves nothing."""
        body = {"text": text, "kind": kind.value}
        return self._transport.one(ListReview, "POST", f"/clients/{part(client_id)}/asks/review", json=body)

    def add_list(
        self, client_id: str, text: str, *, kind: AccessKind = AccessKind.APPLICATION, reason: str = ""
    ) -> Sequence[Ask]:
        """Ask for what a list needs, all or none; what another of it implies is left out."""
        body = {"text": text, "kind": kind.value, "reason": reason}
        return self._transport.many(Ask, "POST", f"/clients/{part(client_id)}/asks/list", json=body)

    def drop(self, client_id: str, ask_id: UUID) -> Ask:
        """Take an ask back; a grant of it stays."""
        return self._transport.one(Ask, "DELETE", f"/clients/{part(client_id)}/asks/{ask_id}")

    def take_over(
        self,
        client_id: str,
        choices: Mapping[str, TakeoverChoice] | None = None,
        *,
        reason: str = "",
        preview: bool = False,
    ) -> Takeover:
        """Ask for what the caller's own roles allow, never more; with `preview` only say what that is."""
        sent = {name: one.model_dump(mode="json") for name, one in choices.items()} if choices is not None else None
        path = f"/clients/{part(client_id)}/takeover" + ("/preview" if preview else "")
        return self._transport.one(Takeover, "POST", path, json={"choices": sent, "reason": reason})


class Consent(Noun):
    def list(self, client_id: str) -> Sequence[Grant]:
        """Return the consents in force, those that people gave for themselves too."""
        return self._transport.many(Grant, "GET", f"/clients/{part(client_id)}/consents")

    def preview(
        self, client_id: str, *, asks: Sequence[UUID] | None = None, terms: Terms | None = None
    ) -> ConsentPreview:
        """Return what consent to the chosen asks, or to all that wait, within these terms would make possible."""
        path = f"/clients/{part(client_id)}/consent/preview"
        return self._transport.one(ConsentPreview, "POST", path, json=_draft(asks, terms))

    def grant(
        self, client_id: str, *, asks: Sequence[UUID] | None = None, terms: Terms | None = None, reason: str = ""
    ) -> Sequence[Grant]:
        """Consent to the chosen asks, or to all that wait, within these terms."""
        body = {**_draft(asks, terms), "reason": reason}
        return self._transport.many(Grant, "POST", f"/clients/{part(client_id)}/consent", json=body)

    def change_reach(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        reach: ReachSent,
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        reason: str = "",
        person: str | None = None,
    ) -> ReachChanged:
        """Change where permissions granted for everyone count; with `person` (login or id), those for that one."""
        body = {
            "resource": resource,
            "permissions": [*permissions],
            "kind": kind.value,
            "reach": reach.model_dump(mode="json"),
            "reason": reason,
            "person": person,
        }
        return self._transport.one(ReachChanged, "POST", f"/clients/{part(client_id)}/consent/reach", json=body)

    def withdraw(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        reason: str = "",
        at: datetime | None = None,
        person: str | None = None,
    ) -> WithdrawnConsent:
        """End the consent to permissions of one resource, now or at a moment to come; the asks stay."""
        body = {
            "resource": resource,
            "permissions": [*permissions],
            "kind": kind.value,
            "reason": reason,
            "at": at.isoformat() if at is not None else None,
            "person": person,
        }
        path = f"/clients/{part(client_id)}/consent/withdrawal"
        return self._transport.one(WithdrawnConsent, "POST", path, json=body)


def _draft(asks: Sequence[UUID] | None, terms: Terms | None) -> dict[str, object]:
    body: dict[str, object] = {}
    if asks is not None:
        body["asks"] = [str(ask) for ask in asks]
    if terms is not None:
        body["terms"] = terms.model_dump(mode="json")
    return body


class Requests(Noun):
    def make(
        self,
        client_id: str,
        reason: str,
        *,
        asks: Sequence[UUID] | None = None,
        answers: Mapping[str, Sequence[str]] | None = None,
        terms_accepted: bool = False,
    ) -> ConsentRequest:
        """Ask an approver to consent to the waiting asks, or the chosen ones."""
        body: dict[str, object] = {
            "reason": reason,
            "answers": {name: [*said] for name, said in (answers or {}).items()},
            "terms_accepted": terms_accepted,
        }
        if asks is not None:
            body["asks"] = [str(ask) for ask in asks]
        return self._transport.one(ConsentRequest, "POST", f"/clients/{part(client_id)}/requests", json=body)

    def list(self, *, waiting: bool = True) -> Iterator[ConsentRequest]:
        """Yield the requests that wait, the one due first before the others; or those past, latest first."""
        return self._transport.pages(ConsentRequest, "/requests", {"waiting": waiting, "limit": 100})

    def read(self, request_id: UUID) -> RequestDossier:
        return self._transport.one(RequestDossier, "GET", f"/requests/{request_id}")

    def grant(
        self, request_id: UUID, *, asks: Sequence[UUID] | None = None, terms: Terms | None = None, words: str = ""
    ) -> ConsentRequest:
        """Say yes, to fewer asks or within narrower terms if you will."""
        body = {"decision": "grant", "words": words, **_draft(asks, terms)}
        return self._transport.one(ConsentRequest, "POST", f"/requests/{request_id}/decision", json=body)

    def decline(self, request_id: UUID, words: str) -> ConsentRequest:
        body = {"decision": "decline", "words": words}
        return self._transport.one(ConsentRequest, "POST", f"/requests/{request_id}/decision", json=body)

    def withdraw(self, client_id: str, request_id: UUID) -> ConsentRequest:
        """Take a waiting request back."""
        path = f"/clients/{part(client_id)}/requests/{request_id}/withdrawal"
        return self._transport.one(ConsentRequest, "POST", path)


class Secrets(Noun):
    def issue(self, client_id: str, *, days: int | None = None) -> IssuedSecret:
        """Issue a secret; this answer is the only one that ever has it."""
        return self._transport.one(IssuedSecret, "POST", f"/clients/{part(client_id)}/secrets", json={"days": days})

    def list(self, client_id: str) -> Sequence[Credential]:
        return self._transport.one(Dossier, "GET", f"/clients/{part(client_id)}").credentials

    def withdraw(self, client_id: str, credential_id: UUID, *, reason: str = "") -> Credential:
        path = f"/clients/{part(client_id)}/credentials/{credential_id}/withdrawal"
        return self._transport.one(Credential, "POST", path, json={"reason": reason})


class Ledger(Noun):
    def list(self, *, client: str | None = None) -> Iterator[LedgerEntry]:
        """Yield changes, newest first."""
        return self._transport.pages(LedgerEntry, "/ledger", {"client": client, "limit": 100})

    def verify(self) -> Verification:
        return self._transport.one(Verification, "GET", "/ledger/verification")
