"""What an auditor takes along: the records as they stand, the findings, the reviews, and where the ledger is."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from jamb.actions.base.act import Act
from jamb.core.directory.signing_keys import SigningAlgorithm, published_of
from jamb.core.errors import NotFound
from jamb.core.reach.details import reach_of
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import reviews
from jamb.store.audit.client_facts import LoadedClient
from jamb.store.clients.clients import ids_of_all
from jamb.store.directory import ledger
from jamb.store.directory.directories import signing_key, signing_keys
from jamb.store.resources import resources

_AT_ONCE = 500
MOST_REVIEWS = 1000


@dataclass(frozen=True, slots=True)
class Ground:
    """On what the evidence stands: the directory, its signing keys, and the head of its ledger."""

    directory: str
    slug: str
    issuer: str
    kid: str
    keys: tuple[dict[str, str], ...]
    entries: int
    head: bytes


def ground(act: Act) -> Ground:
    with act.read() as session:
        head = ledger.head(session, act.directory.id)
        if head is None:
            raise NotFound(f"{act.directory.name} has no ledger.")
        keys = published_of(signing_keys(session, act.directory.id), act.now)
        return Ground(
            act.directory.name,
            act.slug,
            act.backend.issuer(act.slug),
            signing_key(session, act.directory.id, SigningAlgorithm.ES256, act.now).kid,
            tuple(key.public_jwk for key in keys),
            head.sequence,
            head.hash,
        )


def snapshot(act: Act) -> Iterator[bytes]:
    """Yield every registration as it stands, a line of JSON each with sorted members, by client id. No secrets."""
    with act.read() as session:
        names = {resource.id: resource.name for resource in resources.resources_of(session, act.directory.id)}
        ids = ids_of_all(session, act.directory.id, removed=True)
        for start in range(0, len(ids), _AT_ONCE):
            part = ids[start : start + _AT_ONCE]
            for one in pictures.load(session, act.directory.id, act.directory.policy, act.now, part, daily=False):
                yield _line(_registration(one, names, act.now))
            session.expunge_all()


def review_lines(act: Act) -> Iterator[bytes]:
    """Yield every item of every review with its answer, a line of JSON each."""
    with act.read() as session:
        names = {resource.id: resource.name for resource in resources.resources_of(session, act.directory.id)}
        for row in reviews.reviews_of(session, act.directory.id, MOST_REVIEWS):
            for item, client_name in reviews.items_of(session, [row.id]):
                yield _line(
                    {
                        "review": row.name,
                        "started": _said(row.started_at),
                        "ends": _said(row.ends_at),
                        "closed": _said(row.closed_at),
                        "client_id": item.client_id,
                        "client": client_name,
                        "resource": names[item.resource_id],
                        "permission": item.permission,
                        "kind": item.kind,
                        "through": item.through,
                        "reach": reach_of(item.reach).words,
                        "answer": item.answer or "waiting",
                        "words": item.words,
                        "answered_by": item.answered_by,
                        "answered": _said(item.answered_at),
                        "carried_out": _said(item.done_at),
                        "carried_out_by": item.done_by,
                    }
                )
            session.expunge_all()


def _registration(one: LoadedClient, names: dict[Any, str], now: datetime) -> dict[str, Any]:
    row = one.row
    return {
        "id": row.id,
        "name": row.name,
        "purpose": row.purpose,
        "kind": row.kind,
        "state": row.state,
        "registered": _said(row.registered_at),
        "registered_by": row.registered_by,
        "publisher": row.publisher,
        "redirect_uris": list(row.redirect_uris),
        "post_logout_redirect_uris": list(row.post_logout_redirect_uris),
        "backchannel_logout_uri": row.backchannel_logout_uri,
        "sign_in_groups": list(row.sign_in_groups),
        "client_uri": row.client_uri,
        "policy_uri": row.policy_uri,
        "tos_uri": row.tos_uri,
        "logo": row.logo,
        "grant_types": list(row.grant_types),
        "trial_ends": _said(row.trial_ends_at),
        "owners": [{"name": held.name, "level": held.level.value, "live": held.live} for held in one.owners],
        "asks": [
            {
                "resource": names[ask.resource_id],
                "permission": ask.permission,
                "kind": ask.kind,
                "reason": ask.reason,
                "asked": _said(ask.asked_at),
                "asked_by": ask.asked_by,
            }
            for ask in sorted(one.asks, key=lambda ask: (names[ask.resource_id], ask.permission, ask.kind))
        ],
        "consents": [
            {
                "resource": names[grant.resource_id],
                "permission": grant.permission,
                "kind": grant.kind,
                "reach": reach_of(grant.reach).words,
                "granted": _said(grant.granted_at),
                "granted_by": grant.granted_by,
                "ends": _said(grant.expires_at),
            }
            for grant in sorted(one.grants, key=lambda grant: (names[grant.resource_id], grant.permission, grant.kind))
            if grant.stands(now)
        ],
        "roles": [
            {
                "resource": names[role.resource_id],
                "role": role.name,
                "reach": reach_of(held.reach).words,
                "assigned": _said(held.assigned_at),
                "assigned_by": held.assigned_by,
                "ends": _said(held.expires_at),
            }
            for held, role in one.roles
            if held.expires_at is None or held.expires_at > now
        ],
        "credentials": [
            {
                "hint": held.hint,
                "kind": held.kind,
                "issued": _said(held.issued_at),
                "ends": _said(held.expires_at),
                "disabled": _said(held.disabled_at),
                "withdrawn": _said(held.withdrawn_at),
                "last_used": _said(held.last_used_at),
            }
            for held in one.credentials
        ],
        "used": [
            {
                "resource": place.catalogue.name,
                "permission": rung.permission,
                "kind": rung.kind.value,
                "operations": sorted(rung.used_operations),
                "last": _said(rung.last_used_at),
            }
            for place in one.picture.resources
            for rung in place.rungs
            if rung.last_used_at is not None
        ],
    }


def _said(moment: datetime | None) -> str | None:
    return moment.isoformat(timespec="seconds") if moment is not None else None


def _line(value: dict[str, Any]) -> bytes:
    return json.dumps(value, sort_keys=True, ensure_ascii=False).encode() + b"\n"
