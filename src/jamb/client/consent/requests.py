"""Requests for consent and decisions on them."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from uuid import UUID

from jamb.client.base.section import Section, idempotency_header, path_segment
from jamb.client.consent.consent import draft_of
from jamb.wire.consent.consent import (
    Terms,
)
from jamb.wire.consent.requests import ConsentRequest, RequestDossier


class Requests(Section):
    def make(
        self,
        client_id: str,
        reason: str,
        *,
        asks: Sequence[UUID] | None = None,
        answers: Mapping[str, Sequence[str]] | None = None,
        terms_accepted: bool = False,
        once: str | None = None,
    ) -> ConsentRequest:
        """Ask an approver to consent to the waiting asks, or the chosen ones."""
        body: dict[str, object] = {
            "reason": reason,
            "answers": {name: [*said] for name, said in (answers or {}).items()},
            "terms_accepted": terms_accepted,
        }
        if asks is not None:
            body["asks"] = [str(ask) for ask in asks]
        path = f"/clients/{path_segment(client_id)}/requests"
        return self._transport.one(ConsentRequest, "POST", path, json=body, headers=idempotency_header(once))

    def list(self, *, waiting: bool = True) -> Iterator[ConsentRequest]:
        """Yield the requests that wait, the one due first before the others; or those past, latest first."""
        return self._transport.pages(ConsentRequest, "/requests", {"waiting": waiting, "limit": 100})

    def read(self, request_id: UUID) -> RequestDossier:
        return self._transport.one(RequestDossier, "GET", f"/requests/{request_id}")

    def grant(
        self,
        request_id: UUID,
        *,
        asks: Sequence[UUID] | None = None,
        terms: Terms | None = None,
        words: str = "",
        force: bool = False,
    ) -> ConsentRequest:
        """Say yes, to fewer asks or within narrower terms if you will.

        Args:
            force: put a narrower grant in force although its time is not over, or something was missed.
        """
        body = {"decision": "grant", "words": words, "force": force, **draft_of(asks, terms)}
        return self._transport.one(ConsentRequest, "POST", f"/requests/{request_id}/decision", json=body)

    def decline(self, request_id: UUID, words: str) -> ConsentRequest:
        body = {"decision": "decline", "words": words}
        return self._transport.one(ConsentRequest, "POST", f"/requests/{request_id}/decision", json=body)

    def withdraw(self, client_id: str, request_id: UUID) -> ConsentRequest:
        """Take a waiting request back."""
        path = f"/clients/{path_segment(client_id)}/requests/{request_id}/withdrawal"
        return self._transport.one(ConsentRequest, "POST", path)
