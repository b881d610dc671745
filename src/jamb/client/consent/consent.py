"""Asks and consent."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime
from uuid import UUID

from jamb.client.base.section import Section, idempotency_header, path_segment
from jamb.core.permissions import AccessKind
from jamb.wire.consent.consent import (
    Ask,
    CheckedList,
    ConsentPreview,
    DirectoryGrant,
    Grant,
    Inheritance,
    InheritedChoice,
    ReachChanged,
    ReachPreview,
    Terms,
    WithdrawnConsent,
)
from jamb.wire.resources.reach import ReachSent


class Asks(Section):
    def add(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        reason: str = "",
        reach: ReachSent | None = None,
        once: str | None = None,
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
        return self._transport.many(
            Ask, "POST", f"/clients/{path_segment(client_id)}/asks", json=body, headers=idempotency_header(once)
        )

    def check(self, client_id: str, text: str, *, kind: AccessKind = AccessKind.APPLICATION) -> CheckedList:
        """Say of a list from a manual what is known, redundant, heavy or unknown. Saves nothing."""
        body = {"text": text, "kind": kind.value}
        return self._transport.one(CheckedList, "POST", f"/clients/{path_segment(client_id)}/asks/check", json=body)

    def add_list(
        self, client_id: str, text: str, *, kind: AccessKind = AccessKind.APPLICATION, reason: str = ""
    ) -> Sequence[Ask]:
        """Ask for what a list needs, all or none; what another of it implies is left out."""
        body = {"text": text, "kind": kind.value, "reason": reason}
        return self._transport.many(Ask, "POST", f"/clients/{path_segment(client_id)}/asks/list", json=body)

    def drop(self, client_id: str, ask_id: UUID) -> Ask:
        """Take an ask back; a grant of it stays."""
        return self._transport.one(Ask, "DELETE", f"/clients/{path_segment(client_id)}/asks/{ask_id}")

    def inherit(
        self,
        client_id: str,
        choices: Mapping[str, InheritedChoice] | None = None,
        *,
        reason: str = "",
        preview: bool = False,
    ) -> Inheritance:
        """Ask for what the caller's own roles allow, never more; with `preview` only say what that is."""
        sent = {name: one.model_dump(mode="json") for name, one in choices.items()} if choices is not None else None
        path = f"/clients/{path_segment(client_id)}/inheritance" + ("/preview" if preview else "")
        return self._transport.one(Inheritance, "POST", path, json={"choices": sent, "reason": reason})


class Consent(Section):
    def list(self, client_id: str) -> Sequence[Grant]:
        """Return the consents in force, those that people gave for themselves too."""
        return self._transport.many(Grant, "GET", f"/clients/{path_segment(client_id)}/consents")

    def all(
        self,
        *,
        q: str | None = None,
        resource: str | None = None,
        permission: str | None = None,
        kind: AccessKind | None = None,
        bounded: bool | None = None,
        by_person: bool | None = None,
        expires_before: datetime | None = None,
    ) -> Iterator[DirectoryGrant]:
        """Yield the consents in force of all clients over all pages, those granted last first.

        Args:
            q: part of the client, the permission or the person that it covers.
            bounded: only those that count for some objects, or only those that count for all.
            by_person: only those that people gave for themselves, or only others.
            expires_before: only those that expire before this moment.
        """
        filters = {"q": q, "resource": resource, "permission": permission, "kind": kind, "bounded": bounded}
        filters |= {"by_person": by_person, "expires_before": expires_before.isoformat() if expires_before else None}
        return self._transport.pages(DirectoryGrant, "/consents", {**filters, "limit": 100})

    def preview(
        self, client_id: str, *, asks: Sequence[UUID] | None = None, terms: Terms | None = None
    ) -> ConsentPreview:
        """Return what consent to the chosen asks, or to all that wait, within these terms would make possible."""
        path = f"/clients/{path_segment(client_id)}/consent/preview"
        return self._transport.one(ConsentPreview, "POST", path, json=draft_of(asks, terms))

    def grant(
        self,
        client_id: str,
        *,
        asks: Sequence[UUID] | None = None,
        terms: Terms | None = None,
        reason: str = "",
        once: str | None = None,
    ) -> Sequence[Grant]:
        """Consent to the chosen asks, or to all that wait, within these terms."""
        body = {**draft_of(asks, terms), "reason": reason}
        path = f"/clients/{path_segment(client_id)}/consent"
        return self._transport.many(Grant, "POST", path, json=body, headers=idempotency_header(once))

    def decline(self, client_id: str, *, reason: str, asks: Sequence[UUID] | None = None) -> Sequence[Ask]:
        """Decline the chosen asks, or all that wait: they go, and the client's history says why."""
        body = {"asks": [str(one) for one in asks] if asks is not None else None, "reason": reason}
        return self._transport.many(Ask, "POST", f"/clients/{path_segment(client_id)}/consent/refusal", json=body)

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
        return self._transport.one(ReachChanged, "POST", f"/clients/{path_segment(client_id)}/consent/reach", json=body)

    def preview_reach(
        self,
        client_id: str,
        resource: str,
        permissions: Sequence[str],
        reach: ReachSent,
        *,
        kind: AccessKind = AccessKind.APPLICATION,
        person: str | None = None,
    ) -> ReachPreview:
        """Return what another reach would make possible and end, and whether another person must agree."""
        body = {
            "resource": resource,
            "permissions": [*permissions],
            "kind": kind.value,
            "reach": reach.model_dump(mode="json"),
            "person": person,
        }
        path = f"/clients/{path_segment(client_id)}/consent/reach/preview"
        return self._transport.one(ReachPreview, "POST", path, json=body)

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
        path = f"/clients/{path_segment(client_id)}/consent/withdrawal"
        return self._transport.one(WithdrawnConsent, "POST", path, json=body)


def draft_of(asks: Sequence[UUID] | None, terms: Terms | None) -> dict[str, object]:
    body: dict[str, object] = {}
    if asks is not None:
        body["asks"] = [str(ask) for ask in asks]
    if terms is not None:
        body["terms"] = terms.model_dump(mode="json")
    return body
