"""Webhooks: addresses that hear of everything, and what they did not take."""

from __future__ import annotations

from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.core.addresses import UnfitAddress, host_of, read_address
from jamb.core.credentials.recipients import recipient_key
from jamb.core.directory.directories import Directory
from jamb.core.errors import BadInput, Conflict, NotFound, Unsuited
from jamb.store.notices import notices
from jamb.store.notices.notices import WebhookRow
from jamb.wire.notices.notices import DeadEvent, Webhook

MOST_WEBHOOKS = 20


def list_webhooks(act: Act) -> list[Webhook]:
    with act.read() as session:
        return [_view(session, row) for row in notices.webhooks_of(session, act.directory.id)]


def add_webhook(act: Act, url: str, key_text: str, inner_hosts: frozenset[str]) -> Webhook:
    """Let an address hear of all that is told here, beginning with what is so now.

    Args:
        key_text: the public key to which credentials for it are sealed; empty: none are.

    Raises:
        BadInput: no https address, or no such key. Conflict: it is there already, or there are too many.
    """
    try:
        parts = read_address(url)
        if parts.scheme == "http" and parts.host not in inner_hosts:
            raise UnfitAddress("it does not begin with https://")
    except UnfitAddress as error:
        allowed = f"an https address without a user name, as https://desk.port.example/events; {error}"
        raise BadInput.field("url", url, allowed) from error
    key = recipient_key(key_text) if key_text.strip() else None
    with act.change() as unit:
        if len(notices.webhook_ids(unit.session, act.directory.id)) >= MOST_WEBHOOKS:
            raise Conflict(f"There are {MOST_WEBHOOKS} webhooks already.", next_step="Remove one first.")
        row = WebhookRow(
            id=uuid4(),
            directory_id=act.directory.id,
            url=url,
            made_at=act.now,
            made_by=act.actor.name,
            made_by_id=act.actor.id,
            recipient_key=key,
        )
        with unit.constraint("webhook_there_already", lambda: Conflict(f"{url} hears of everything already.")):
            unit.session.add(row)
        unit.enter("webhook.added", _subject(row), after={"url": url, **({"key": key["kid"]} if key else {})})
        return _view(unit.session, row)


def remove_webhook(act: Act, webhook_id: UUID) -> Webhook:
    """Let an address hear of nothing more; what it did not take yet is dropped."""
    with act.change() as unit:
        row = _find(unit.session, act.directory, webhook_id)
        view = _view(unit.session, row)
        notices.drop_pushes(unit.session, row.id)
        unit.session.delete(row)
        unit.enter("webhook.removed", _subject(row), before={"url": row.url})
        return view


def list_dead(act: Act, webhook_id: UUID) -> list[DeadEvent]:
    """Return the events that a webhook did not take after all tries, the latest first."""
    with act.read() as session:
        row = _find(session, act.directory, webhook_id)
        rows = notices.dead_pushes(session, row.id)
        return [
            DeadEvent(
                id=one.id,
                kind=one.event["kind"],
                words=one.event["words"],
                made_at=one.made_at,
                tries=one.tries,
                failed=one.failed,
            )
            for one in rows
        ]


def revive(act: Act, webhook_id: UUID) -> Webhook:
    """Try all dead events of a webhook anew. Raises `BadInput` when there are none."""
    with act.change() as unit:
        row = _find(unit.session, act.directory, webhook_id)
        count = notices.revive_pushes(unit.session, row.id, act.now)
        if not count:
            raise Unsuited.field("webhook", row.url, "one with events that were given up")
        unit.enter("webhook.revived", _subject(row), after={"events": count})
        return _view(unit.session, row)


def _find(session: Session, directory: Directory, webhook_id: UUID) -> WebhookRow:
    row = session.get(WebhookRow, webhook_id)
    if row is None or row.directory_id != directory.id:
        raise NotFound(f"There is no webhook {webhook_id}.", next_step="See the list of webhooks.")
    return row


def _subject(row: WebhookRow) -> dict[str, str]:
    return {"kind": "webhook", "id": str(row.id), "name": host_of(row.url)[1]}


def _view(session: Session, row: WebhookRow) -> Webhook:
    waiting, dead, taken, last = notices.push_counts(session, row.id)
    return Webhook(
        id=row.id,
        url=row.url,
        made_at=row.made_at,
        made_by=row.made_by,
        waiting=waiting,
        dead=dead,
        sent=taken,
        error=last or "",
        key_id=(row.recipient_key or {}).get("kid", ""),
    )
