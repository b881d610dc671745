"""What waits, what ends, what is wrong and what changed: the numbers of the first page."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, timedelta

from sqlmodel import Session

from jamb.actions.premises import Premises, find_directory
from jamb.actions.request_views import RequestView, request_views
from jamb.core import audit
from jamb.core.credentials import CredentialState
from jamb.core.excess import Excess, excess
from jamb.core.ladder import LadderCount, count
from jamb.core.ledger import Entry
from jamb.store import ledger, pictures, requests

RECENT_ENTRIES = 8
REQUESTS_SHOWN = 20
# How long a requester is told how a request ended.
TOLD_FOR = timedelta(days=14)


@dataclass(frozen=True, slots=True)
class Waiting:
    client_id: str
    client_name: str
    permissions: tuple[str, ...]
    since: datetime


@dataclass(frozen=True, slots=True)
class Ending:
    """A live credential and its end; `in_use` when it was used in the last seven days."""

    client_id: str
    client_name: str
    hint: str
    ends: datetime
    last_used_at: datetime | None


@dataclass(frozen=True, slots=True)
class Today:
    at: datetime
    clients: int
    ladder: LadderCount
    waiting: tuple[Waiting, ...]
    horizon: tuple[Ending, ...]
    findings: dict[str, int]
    excess: Excess
    recent: tuple[Entry, ...]
    requests: tuple[RequestView, ...]
    decided: tuple[RequestView, ...]


def read_today(premises: Premises, slug: str, now: datetime, reader: str) -> Today:
    """Return what waits, ends and changed. `reader`: whose own requests, decided lately, are told of."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        loaded = pictures.load(session, directory.id, directory.policy, now)
        found = [one.picture for one in loaded]
        findings = {severity.word: 0 for severity in reversed(audit.Severity)}
        for finding in (one for client in loaded for one in client.findings(directory.policy, now)):
            findings[finding.severity.word] += 1
        horizon = [
            Ending(client.id, client.name, credential.hint, credential.expires_at, credential.last_used_at)
            for client in found
            for credential in client.credentials
            if credential.expires_at is not None
            and credential.state(now, directory.policy.notice) in {CredentialState.LIVE, CredentialState.EXPIRING}
        ]
        rows = requests.page(session, directory.id, now=now, waiting=True, mine=None, after=None, limit=REQUESTS_SHOWN)
        waiting = request_views(session, directory, rows, now)
        rows = requests.page(
            session, directory.id, now=now, waiting=False, mine=reader, after=None, limit=REQUESTS_SHOWN
        )
        past = request_views(session, directory, rows, now)
        lately = [one for one in past if now - (one.decided_at or one.due_at) <= TOLD_FOR]
        entries = ledger.page(session, directory.id, client_id=None, before=None, limit=RECENT_ENTRIES)
        return Today(
            at=now,
            clients=len(found),
            ladder=count(rung for client in found for place in client.resources for rung in place.rungs),
            waiting=tuple(sorted(_waiting(found), key=lambda one: one.since)),
            horizon=tuple(sorted(horizon, key=lambda one: one.ends)),
            findings=findings,
            excess=excess((place for client in found for place in client.resources), now, directory.policy.observation),
            recent=tuple(row.entry() for row in entries),
            requests=tuple(waiting),
            # Those of clients that the reader owns are another's to be told of.
            decided=tuple(one for one in lately if one.requested_by_id == reader),
        )


def _waiting(found: list[audit.ClientPicture]) -> list[Waiting]:
    rows = []
    for client in found:
        asks = [rung.asked for place in client.resources for rung in place.rungs if rung.asked and rung.granted is None]
        if asks:
            names = tuple(sorted(ask.permission for ask in asks))
            rows.append(Waiting(client.id, client.name, names, min(ask.asked_at for ask in asks)))
    return rows
