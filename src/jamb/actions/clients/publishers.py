"""Publishers of clients that come from elsewhere: who here answers for them, and why."""

from __future__ import annotations

from jamb.actions.base.act import Act
from jamb.core.clients.clients import DOMAIN, tidy_domain
from jamb.core.errors import BadInput, Conflict, NotFound
from jamb.store.base.work import check_reason
from jamb.store.clients import publishers
from jamb.store.clients.publishers import PublisherRow

# All of them are shown at once.
MOST_PUBLISHERS = 200


def list_publishers(act: Act) -> list[PublisherRow]:
    with act.read() as session:
        return publishers.vouched(session, act.directory.id)


def vouch(act: Act, domain: str, reason: str) -> PublisherRow:
    """Answer for a publisher, by its domain.

    Raises:
        BadInput: not a domain, or no reason. Conflict: somebody vouches for it already, or there are too many.
    """
    check_reason(reason)
    name = tidy_domain(domain)
    if not DOMAIN.match(name):
        raise BadInput.field("domain", domain, "a domain, as brisling.example")
    if not reason.strip():
        raise BadInput.field("reason", "nothing", "why they are known here")
    with act.change() as unit:
        if len(publishers.vouched(unit.session, act.directory.id)) >= MOST_PUBLISHERS:
            raise Conflict(
                f"{act.directory.name} vouches for {MOST_PUBLISHERS} publishers, which is the most.",
                next_step="Disown one that has no client here.",
            )
        row = PublisherRow(
            directory_id=act.directory.id,
            domain=name,
            vouched_at=act.now,
            vouched_by=act.actor.name,
            reason=reason.strip(),
        )
        with unit.constraint("publisher_pkey", lambda: Conflict(f"Somebody vouches for {name} already.")):
            unit.session.add(row)
        subject = {"kind": "publisher", "id": name, "name": name}
        unit.enter("publisher.vouched", subject, after={"domain": name}, reason=reason)
        return row


def disown(act: Act, domain: str) -> None:
    """Answer for a publisher no more; its clients show up in the audit."""
    with act.change() as unit:
        row = unit.session.get(PublisherRow, (act.directory.id, tidy_domain(domain)))
        if row is None:
            raise NotFound(f"Nobody vouches for {domain[:80]}.", next_step="See the list of publishers.")
        unit.session.delete(row)
        subject = {"kind": "publisher", "id": row.domain, "name": row.domain}
        unit.enter("publisher.disowned", subject, before={"by": row.vouched_by, "reason": row.reason})
