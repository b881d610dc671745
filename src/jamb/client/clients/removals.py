"""Removing and restoring clients; publishers for which somebody answers."""

from __future__ import annotations

import builtins
from collections.abc import Iterator, Sequence

from jamb.client.base.section import Section, path_segment
from jamb.wire.clients.clients import Client
from jamb.wire.clients.removals import Publisher, RemovalPreview, Removed


class Removals(Section):
    def preview(self, client_ids: Sequence[str]) -> builtins.list[RemovalPreview]:
        """Return what removing these would take along, and what stands against it. Changes nothing."""
        return self._transport.many(RemovalPreview, "POST", "/removals/preview", json={"clients": [*client_ids]})

    def remove(self, client_id: str, *, reason: str = "") -> Removed:
        """Remove a disabled client whose credentials are dead. Raises `StillInUse` with what stands against it."""
        return self._transport.one(
            Removed, "POST", f"/clients/{path_segment(client_id)}/removal", json={"reason": reason}
        )

    def restore(self, client_id: str) -> Client:
        """Restore a removed client, disabled, with what its removal ended."""
        return self._transport.one(Client, "POST", f"/clients/{path_segment(client_id)}/restoration")

    def list(self, *, q: str | None = None) -> Iterator[Removed]:
        """Yield removed clients, the latest first, over all pages; `q`: part of a name, or how a client id begins."""
        return self._transport.pages(Removed, "/removals", {"q": q, "limit": 100})


class Publishers(Section):
    def list(self) -> builtins.list[Publisher]:
        return self._transport.many(Publisher, "GET", "/publishers")

    def vouch(self, domain: str, *, reason: str) -> Publisher:
        """Answer for a publisher."""
        return self._transport.one(Publisher, "PUT", f"/publishers/{path_segment(domain)}", json={"reason": reason})

    def disown(self, domain: str) -> None:
        self._transport.send("DELETE", f"/publishers/{path_segment(domain)}")
