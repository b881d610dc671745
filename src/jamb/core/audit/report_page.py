"""A report for people: figures, trends, findings by rule and by client, ready to be set as one page."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import date, datetime, timedelta

from jamb.core.audit.excess import Excess
from jamb.core.audit.findings import Rule, Severity
from jamb.core.audit.reports import Reported

WIDE, TALL = 420, 90
_DAYS = 90


@dataclass(frozen=True, slots=True)
class Trend:
    """A figure over days. `points`: x and y in a picture of `WIDE` by `TALL`, y downwards from the most."""

    title: str
    note: str
    points: Sequence[tuple[float, float]]
    first: date
    last: date


@dataclass(frozen=True, slots=True)
class RuleCount:
    """How many findings a rule has, and as a share of the rule with the most (0 to 1)."""

    title: str
    findings: int
    share: float


@dataclass(frozen=True, slots=True)
class ReportPage:
    """`by_rule`: those with findings, the most first. `sections`: what each rule found, waived ones among it."""

    place: str
    made_at: datetime
    severities: Sequence[tuple[Severity, int]]
    clients_concerned: int
    waived: int
    trends: Sequence[Trend]
    by_rule: Sequence[RuleCount]
    sections: Sequence[tuple[Rule, Sequence[Reported]]]
    by_client: Mapping[str, Sequence[Reported]]


def report_page(
    place: str,
    rules: Sequence[Rule],
    found: Iterable[Reported],
    now: datetime,
    history: Sequence[tuple[date, Excess]] = (),
) -> ReportPage:
    """Return what the page says.

    Args:
        history: the directory's excess at the end of each day, the oldest first.
    """
    every = list(found)
    standing = [one for one in every if one.waived_until is None]
    severities = Counter(one.severity for one in standing)
    return ReportPage(
        place=place,
        made_at=now,
        severities=[(severity, severities[severity]) for severity in sorted(Severity, reverse=True)],
        clients_concerned=len({one.client_id for one in standing}),
        waived=len(every) - len(standing),
        trends=_trends(standing, history, now),
        by_rule=_by_rule(rules, standing),
        sections=[(rule, among) for rule in rules if (among := [one for one in every if one.rule == rule.id])],
        by_client=_by_client(standing),
    )


def _trends(standing: Sequence[Reported], history: Sequence[tuple[date, Excess]], now: datetime) -> list[Trend]:
    """Return how excess went, and since when what is open is known."""
    trends = []
    judged = [(day, one.share) for day, one in history if one.share is not None]
    if judged:
        (began, before), (ended, after) = judged[0], judged[-1]
        title = f"Excess: {before:.0%} on {began:%Y-%m-%d}, {after:.0%} on {ended:%Y-%m-%d}"
        trends.append(_trend(title, "of the granted weight is not used", judged, 1.0))
    known = Counter(one.first_seen_at.date() for one in standing)
    days = [now.date() - timedelta(days=back) for back in range(_DAYS - 1, -1, -1)]
    older = seen = sum(count for day, count in known.items() if day < days[0])
    rows = []
    for day in days:
        seen += known[day]
        rows.append((day, float(seen)))
    title = f"Open findings: {len(standing)}, of which {older} are older than {_DAYS} days"
    trends.append(_trend(title, "of what is open today, known on each day", rows, max(float(seen), 1.0)))
    return trends


def _trend(title: str, note: str, rows: Sequence[tuple[date, float]], most: float) -> Trend:
    steps = max(len(rows) - 1, 1)
    points = [(WIDE * step / steps, TALL - TALL * value / most) for step, (_, value) in enumerate(rows)]
    return Trend(title, note, points, rows[0][0], rows[-1][0])


def _by_rule(rules: Sequence[Rule], standing: Sequence[Reported]) -> list[RuleCount]:
    counts = Counter(one.rule for one in standing)
    most = max(counts.values(), default=1)
    found = [RuleCount(rule.title, counts[rule.id], counts[rule.id] / most) for rule in rules if counts[rule.id]]
    return sorted(found, key=lambda row: (-row.findings, row.title))


def _by_client(standing: Sequence[Reported]) -> dict[str, list[Reported]]:
    names: dict[str, list[Reported]] = {}
    for one in sorted(standing, key=lambda row: (row.client_name.casefold(), -row.severity)):
        names.setdefault(one.client_name, []).append(one)
    return names
