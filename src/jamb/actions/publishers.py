"""Publishers of clients that come from elsewhere: who here answers for them, and why."""

from __future__ import annotations

from datetime import datetime

from sqlmodel import Session

from jamb.actions.asks import check_reason
from jamb.actions.premises import Directory, Premises, find_directory
from jamb.core.clients import DOMAIN, tidy_domain
from jamb.core.errors import BadInput, Conflict, NotFound
from jamb.store import publishers
from jamb.store.publishers import PublisherRow
from jamb.store.work import Actor, unit_of_work


def list_publishers(premises: Premises, slug: str) -> list[PublisherRow]:
    with Session(premises.engine) as session:
        return publishers.vouched(session, find_directory(session, slug).id)


def vouch(
    premises: Premises, directory: Directory, domain: str, reason: str, actor: Actor, now: datetime
) -> PublisherRow:
    """Answer for a publisher, by its domain.

    Raises:
        BadInput: not a domain, or no reason. Conflict: somebody vouches for it already.
    """
    check_reason(reason)
    name = tidy_domain(domain)
    if not DOMAIN.match(name):
        raise BadInput.field("domain", domain, "a domain, as brisling.example")
    if not reason.strip():
        raise BadInput.field("reason", "nothing", "why they are known here")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row = PublisherRow(
            directory_id=directory.id, domain=name, vouched_at=now, vouched_by=actor.name, reason=reason.strip()
        )
        with unit.constraint("publisher_pkey", lambda: Conflict(f"Somebody vouches for {name} already.")):
            unit.session.add(row)
        subject = {"kind": "publisher", "id": name, "name": name}
        unit.enter(actor, "publisher.vouched", subject, now=now, after={"domain": name}, reason=reason)
        return row


def disown(premises: Premises, directory: Directory, domain: str, actor: Actor, now: datetime) -> None:
    """Answer for a publisher no more; its clients show up in the audit."""
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row = unit.session.get(PublisherRow, (directory.id, tidy_domain(domain)))
        if row is None:
            raise NotFound(f"Nobody vouches for {domain[:80]}.", next_step="See the list of publishers.")
        unit.session.delete(row)
        subject = {"kind": "publisher", "id": row.domain, "name": row.domain}
        unit.enter(actor, "publisher.disowned", subject, now=now, before={"by": row.vouched_by, "reason": row.reason})
