"""A directory in figures: what is wrong, how old it is, what expires when, how much is granted and not used."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from uuid import UUID

from jamb.actions.audit.evaluation import look_first
from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.directory.people import find_person
from jamb.core.audit.evaluate import RULES
from jamb.core.audit.excess import Excess, trend
from jamb.core.audit.findings import Severity
from jamb.core.clients.clients import OwnerLevel
from jamb.core.lists import ExcessBy, Which
from jamb.store.audit import excess as excess_store
from jamb.store.audit import findings
from jamb.store.base.reading import Readings
from jamb.store.clients import clients
from jamb.store.credentials import expiries
from jamb.store.directory import counts
from jamb.wire.audit import audit as wire

# Bands of age of what is open; older is the last.
AGES = (7, 30, 90)
TREND_DAYS = 90


def read_posture(act: Act) -> wire.Audit:
    """Return a directory's posture; what changed is looked at first."""
    left = look_first(act).left
    with act.read() as session:
        asked, here = Readings(), act.directory.id
        counting = asked.add(findings.tally(here, act.now))
        changes = asked.add(excess_store.changes_in_all(here))
        clients_there = asked.add(counts.clients_in(here))
        ages = asked.add(findings.ages(here, act.now, AGES))
        ending = asked.add(expiries.in_bands(here, act.now))
        excess = asked.add(excess_store.in_all(here))
        asked.read(session, at_once=True)
        tally = counting.value
        counted = dict.fromkeys((severity.word for severity in sorted(Severity, reverse=True)), 0)
        for _, severity, which, count, _ in tally:
            if which is Which.OPEN:
                counted[Severity(severity).word] += count
        standing = {which: sum(count for _, _, one, count, _ in tally if one is which) for which in Which}
        return wire.Audit(
            directory=act.directory.name,
            at=act.now,
            clients=clients_there.value,
            left=left,
            open=counted,
            waived=standing[Which.WAIVED],
            resolved=standing[Which.RESOLVED],
            ages=[
                wire.Age(severity=wire.Severity(Severity(severity).word), days=band, count=count)
                for severity, band, count in ages.value
            ],
            ending=[wire.EndBand(days=days, count=count) for days, count in ending.value],
            excess=wire.Excess(**wire.excess_of(excess.value)),
            trend=[
                wire.ExcessOnDay(day=day, **wire.excess_of(found))
                for day, found in trend(changes.value, act.now.date(), TREND_DAYS)
            ],
            rules=[wire.Rule(**wire.rule_of(rule), **_standing(rule.id, tally)) for rule in RULES],
        )


def _standing(rule: str, tally: Sequence[tuple[str, int, Which, int, datetime]]) -> dict[str, object]:
    """Return how a rule stands; the worst and the oldest are of what is open."""
    mine = [row for row in tally if row[0] == rule]
    by = {which: sum(count for _, _, one, count, _ in mine if one is which) for which in Which}
    still = [(severity, oldest) for _, severity, which, _, oldest in mine if which is Which.OPEN]
    return {
        "open": by[Which.OPEN],
        "waived": by[Which.WAIVED],
        "resolved": by[Which.RESOLVED],
        "worst": wire.Severity(Severity(max(severity for severity, _ in still)).word) if still else None,
        "oldest": min((oldest for _, oldest in still), default=None),
    }


def rank_excess(act: Act, by: ExcessBy, limit: int) -> list[wire.RankedExcess]:
    """Return weight granted, used and unused by client, owner or resource; the most unused first."""
    readers = {
        ExcessBy.CLIENT: excess_store.by_client,
        ExcessBy.OWNER: excess_store.by_owner,
        ExcessBy.RESOURCE: excess_store.by_resource,
    }
    with act.read() as session:
        return [
            wire.RankedExcess(key=key, title=title, **wire.excess_of(found))
            for key, title, found in readers[by](session, act.directory.id, limit)
        ]


def excess_history(act: Act, days: int) -> list[tuple[date, Excess]]:
    """Return the directory's excess at the end of each day: for reports."""
    with act.read() as session:
        return list(trend(excess_store.changes_in_all(act.directory.id).of(session), act.now.date(), days))


def excess_trend(act: Act, by: ExcessBy | None, key: str, days: int) -> list[wire.ExcessOnDay]:
    """Return the excess at the end of each day: of the directory, or of one client, owner or resource."""
    with act.read() as session:
        client_ids: list[str] | None = None
        resource_ids: list[UUID] | None = None
        if by is ExcessBy.CLIENT:
            client_ids = [find_client(session, act.directory, key).id]
        elif by is ExcessBy.OWNER:
            person = find_person(session, act.directory, key)
            client_ids = clients.owned_by(session, person.id).get(OwnerLevel.FULL, [])
        elif by is ExcessBy.RESOURCE:
            resource_ids = [find_resource(session, act.directory, key).id]
        changes = excess_store.changes(session, act.directory.id, client_ids=client_ids, resource_ids=resource_ids)
        return [
            wire.ExcessOnDay(day=day, **wire.excess_of(found)) for day, found in trend(changes, act.now.date(), days)
        ]
