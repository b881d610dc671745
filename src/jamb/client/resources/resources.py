"""Resources: publish, look, propose."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from jamb.client.base.section import Section, match_header, path_segment
from jamb.core.permissions import AccessKind, DataClass
from jamb.wire.resources.access import Holders
from jamb.wire.resources.reach import Collections, CollectionSent
from jamb.wire.resources.resources import (
    DraftedOperations,
    Proposal,
    Resource,
    ResourceAddress,
    ResourceChange,
    ResourceLine,
    ResourceSent,
)


class Resources(Section):
    def publish(self, name: str, resource: ResourceSent, *, if_match: str | None = None) -> ResourceChange:
        """Publish a resource, or put this in place of what it is.

        Args:
            if_match: the `version` that you saw; if it is another now, `Outdated` is raised and nothing is changed.
        """
        body, path = resource.model_dump(mode="json"), f"/resources/{path_segment(name)}"
        return self._transport.one(ResourceChange, "PUT", path, json=body, headers=match_header(if_match))

    def preview(self, name: str, resource: ResourceSent) -> ResourceChange:
        """Return what publishing this would change, and for which clients. Changes nothing."""
        body = resource.model_dump(mode="json")
        return self._transport.one(ResourceChange, "POST", f"/resources/{path_segment(name)}/preview", json=body)

    def draft(self, document: dict[str, object], *, data_class: DataClass = DataClass.INTERNAL) -> DraftedOperations:
        """Return the operations that an OpenAPI 3.1 document describes, to be corrected and published."""
        body = {"document": document, "data_class": data_class.value}
        return self._transport.one(DraftedOperations, "POST", "/resources/draft", json=body)

    def collections(self, name: str) -> Collections:
        return self._transport.one(Collections, "GET", f"/resources/{path_segment(name)}/collections")

    def replace_collections(
        self, name: str, collections: Sequence[CollectionSent], *, if_match: str | None = None
    ) -> Collections:
        """Put these collections in place of those a resource has.

        Args:
            if_match: the `version` that you saw; if it is another now, `Outdated` is raised and nothing is changed.
        """
        body = {"collections": [one.model_dump(mode="json") for one in collections]}
        path = f"/resources/{path_segment(name)}/collections"
        return self._transport.one(Collections, "PUT", path, json=body, headers=match_header(if_match))

    def holders(self, name: str, operation: str, *, object: str | None = None) -> Holders:  # noqa: A002
        """Return all clients who can do an operation, the first 500 people, and through what."""
        params: dict[str, str | int] = {"operation": operation, "limit": 100}
        if object is not None:
            params["object"] = object
        path = f"/resources/{path_segment(name)}/holders"
        found = page = self._transport.one(Holders, "GET", path, params=params)
        while page.next is not None:
            page = self._transport.one(Holders, "GET", path, params={**params, "cursor": page.next})
            found.clients.extend(page.clients)
        return found.model_copy(update={"next": None})

    def list(self, *, q: str | None = None) -> Iterator[ResourceLine]:
        """Yield all resources by name, over all pages; `q`: part of a name, title or identifier."""
        return self._transport.pages(ResourceLine, "/resources", {"q": q, "limit": 100})

    def set_address(self, name: str, url: str, *, if_match: str | None = None) -> str:
        """Say where a resource answers, so that clients can be probed there; empty: nowhere."""
        path = f"/resources/{path_segment(name)}/address"
        return self._transport.one(ResourceAddress, "PUT", path, json={"url": url}, headers=match_header(if_match)).url

    def read(self, name: str) -> Resource:
        return self._transport.one(Resource, "GET", f"/resources/{path_segment(name)}")

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
        return self._transport.one(Proposal, "GET", f"/resources/{path_segment(name)}/proposal", params=params)
