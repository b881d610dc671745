"""What waits, what expires, what is wrong and what changed: the numbers of the first page."""

from __future__ import annotations

from datetime import timedelta

from jamb.actions.audit.evaluation import look_first
from jamb.actions.base.act import Act
from jamb.actions.consent.request_views import request_views
from jamb.core.audit.excess import trend
from jamb.core.audit.findings import Severity
from jamb.core.audit.rules.credentials import RECENT
from jamb.core.lists import Which
from jamb.store.audit import excess as excess_store
from jamb.store.audit import findings
from jamb.store.base.reading import Readings
from jamb.store.clients.client_lists import WaitingAsk, waiting_asks
from jamb.store.consent import requests
from jamb.store.credentials import expiries, rotations
from jamb.store.directory import counts, ledger
from jamb.wire.audit.audit import ExcessOnDay, excess_of
from jamb.wire.audit.today import Ending, EndingSoon, Overlap, Today, Waiting, WeekOfEndings
from jamb.wire.clients.clients import LadderCount
from jamb.wire.directory.ledger import entry_of

RECENT_ENTRIES = 8
REQUESTS_SHOWN = 20
WAITING_SHOWN = 20
OVERLAPS_SHOWN = 40
WEEKS, SHOWN_OF_A_WEEK = 53, 6
TREND_DAYS = 90
# How long a requester is told how a request ended.
TOLD_FOR = timedelta(days=14)


def read_today(act: Act, reader: str) -> Today:
    """Return what waits, ends and changed. `reader`: whose own requests, decided lately, are told of.

    Read from what the audit keeps of each client, so that it costs the same however many there are; what changed is
    looked at first.
    """
    look_first(act)
    with act.read() as session:
        asked, here = Readings(), act.directory.id
        tally = asked.add(findings.tally(here, act.now))
        waiting = asked.add(findings.clients_waiting(here, WAITING_SHOWN))
        ending = asked.add(expiries.by_week(here, act.now, WEEKS, SHOWN_OF_A_WEEK))
        warn = act.directory.policy.warn_before
        ending_soon = asked.add(expiries.until(here, act.now, act.now + warn, act.now - RECENT))
        excess_now = asked.add(excess_store.in_all(here))
        changes = asked.add(excess_store.changes_in_all(here))
        clients = asked.add(counts.clients_in(here))
        ladder = asked.add(findings.ladder_of_all(here))
        requests_in_all = asked.add(requests.waiting_in(here, act.now))
        overlaps_in_all = asked.add(rotations.open_in(here))
        asked.read(session, at_once=True)
        found = {severity.word: 0 for severity in reversed(Severity)}
        for _, severity, which, number, _ in tally.value:
            if which is Which.OPEN:
                found[Severity(severity).word] += number
        soon, in_use = ending_soon.value
        overlaps = rotations.page(
            session, act.directory.id, client_ids=None, ended_since=None, after=None, limit=OVERLAPS_SHOWN
        )
        open_now, decided = (
            requests.page(session, here, now=act.now, waiting=waits, mine=mine, after=None, limit=REQUESTS_SHOWN)
            for waits, mine in ((True, None), (False, reader))
        )
        views = request_views(session, act.directory, [*open_now, *decided], act.now, deciders=False)
        past = views[len(open_now) :]
        lately = [one for one in past if act.now - (one.decided_at or one.due_at) <= TOLD_FOR]
        entries = ledger.page(session, act.directory.id, client_id=None, before=None, limit=RECENT_ENTRIES)
        excess = excess_now.value
        by_day = trend(changes.value, act.now.date(), TREND_DAYS)
        waiting_clients, waiting_in_all = waiting.value
        return Today(
            at=act.now,
            clients=clients.value,
            ladder=LadderCount.model_validate(ladder.value),
            waiting=sorted(_waiting(waiting_asks(waiting_clients, act.now).of(session)), key=lambda one: one.since),
            waiting_in_all=waiting_in_all,
            requests_in_all=requests_in_all.value,
            soon=EndingSoon(days=warn.days, credentials=soon, in_use=in_use),
            horizon=_by_week(ending.value),
            overlaps=[_overlap(rotation) for rotation in overlaps],
            overlaps_in_all=overlaps_in_all.value,
            findings=found,
            excess=excess.share,
            granted_weight=excess.granted_weight,
            unused_weight=excess.unused_weight,
            trend=[ExcessOnDay(day=day, **excess_of(one)) for day, one in by_day],
            recent=[entry_of(row.entry()) for row in entries],
            requests=views[: len(open_now)],
            # Those of clients that the reader owns are another's to be told of.
            decided=[one for one in lately if one.requested_by_id == reader],
        )


def _by_week(found: list[expiries.ExpiringCredential]) -> list[WeekOfEndings]:
    weeks: dict[int, WeekOfEndings] = {}
    for ending in found:
        week = weeks.setdefault(ending.week, WeekOfEndings(week=ending.week, credentials=ending.in_week, first=[]))
        week.first.append(
            Ending(
                client_id=ending.client_id,
                client_name=ending.client_name,
                hint=ending.hint,
                ends=ending.expires_at,
                last_used_at=ending.last_used_at,
            )
        )
    return list(weeks.values())


def _overlap(found: rotations.LoadedRotation) -> Overlap:
    return Overlap(
        client_id=found.row.client_id,
        client_name=found.client_name,
        hint=found.old.hint,
        opened_at=found.row.opened_at,
        overlap_ends_at=found.row.overlap_ends_at,
    )


def _waiting(asks: list[WaitingAsk]) -> list[Waiting]:
    clients: dict[str, list[WaitingAsk]] = {}
    for ask in asks:
        clients.setdefault(ask.client_id, []).append(ask)
    return [
        Waiting(
            client_id=client_id,
            client_name=mine[0].client_name,
            permissions=tuple(ask.permission for ask in mine),
            since=min(ask.asked_at for ask in mine),
        )
        for client_id, mine in clients.items()
    ]
