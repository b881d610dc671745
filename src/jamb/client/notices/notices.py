"""What people were told, and webhooks."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from uuid import UUID

from jamb.client.base.section import Section
from jamb.wire.notices.notices import CalendarFeed, DeadEvent, FailingDuty, Notice, Webhook


class Notices(Section):
    def list(self, *, q: str | None = None) -> Iterator[Notice]:
        """Yield what people were told, and how the mails fared; the latest first, over all pages.

        Args:
            q: part of what was told, or of a person's name.
        """
        return self._transport.pages(Notice, "/notices", {"q": q, "limit": 100})

    def failing_duties(self) -> Sequence[FailingDuty]:
        """Return what the service could not do for the directory in its rounds, and when it tries again."""
        return self._transport.many(FailingDuty, "GET", "/duties")

    def make_calendar(self, *, whole: bool = False) -> CalendarFeed:
        """Make a calendar feed of one's own clients, or of the whole directory; the one before ends."""
        return self._transport.one(CalendarFeed, "POST", "/calendar", json={"whole": whole})


class Webhooks(Section):
    """Addresses that hear of everything by signed event tokens (RFC 8417, RFC 8935)."""

    def list(self) -> list[Webhook]:
        return self._transport.many(Webhook, "GET", "/webhooks")

    def add(self, url: str, *, key: str = "") -> Webhook:
        """Let an address hear of everything. `key`: its public key (JWK or PEM), to seal credentials to."""
        return self._transport.one(Webhook, "POST", "/webhooks", json={"url": url, "key": key})

    def remove(self, webhook_id: UUID) -> Webhook:
        return self._transport.one(Webhook, "DELETE", f"/webhooks/{webhook_id}")

    def dead(self, webhook_id: UUID) -> Sequence[DeadEvent]:
        """Return the events that it did not take after all tries."""
        return self._transport.many(DeadEvent, "GET", f"/webhooks/{webhook_id}/dead")

    def revive(self, webhook_id: UUID) -> Webhook:
        """Try those events anew."""
        return self._transport.one(Webhook, "POST", f"/webhooks/{webhook_id}/revival")
