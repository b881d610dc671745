"""Pages for people: what the rules look for, and a report that stands by itself and prints well."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from datetime import date, datetime, timedelta
from html import escape
from typing import TYPE_CHECKING

from jamb.core.audit.findings import Family, Rule, Severity

if TYPE_CHECKING:
    from jamb.core.audit.excess import Excess
    from jamb.core.audit.reports import Reported

_STYLE = """
body { font: 14px/1.45 system-ui, sans-serif; color: #1b2427; margin: 2.5rem auto; max-width: 60rem; padding: 0 1rem; }
h1 { font-size: 1.7rem; margin: 0; }
h2 { margin: 2.2rem 0 .3rem; font-size: 1.15rem; }
p { margin: .3rem 0; }
table { border-collapse: collapse; width: 100%; margin: .6rem 0; }
th, td { text-align: left; vertical-align: top; padding: .3rem .8rem .3rem 0; border-bottom: 1px solid #d9d2c2; }
th { font-weight: 560; color: #4c585c; border-bottom-color: #1b2427; }
.soft { color: #4c585c; }
.figures { display: flex; gap: 2.5rem; margin: 1.2rem 0; }
.figures b { font-size: 2rem; display: block; }
figure { margin: 0; flex: 1; }
figcaption { font-size: .9rem; margin-bottom: .4rem; }
svg { width: 100%; height: auto; }
svg text { font: 10px system-ui, sans-serif; fill: #4c585c; }
.trends { display: flex; gap: 2.5rem; margin: 1.4rem 0; }
.bar { display: inline-block; height: .7rem; margin-right: .4rem; background: #1d5b73; }
.number { white-space: nowrap; }
.high { color: #a2321b; font-weight: 560; }
.medium { color: #7a5200; }
.low { color: #4c585c; }
@media print {
  body { margin: 0; max-width: none; }
  h2 { break-after: avoid; }
  tr { break-inside: avoid; }
  .part { break-before: page; }
}
"""
_INTRODUCTION = """# What the audit looks for

Written from the rules themselves by `make api`. A finding names one client, its evidence, how bad it is, and a remedy.
Names in `this type` are settings of the directory's policy. The examples are held by tests.

## Terms

- **Works**: a credential works from its start to its end (at the moment of its end no more), while it is neither
  disabled nor withdrawn.
- **Holds**: a client holds a permission by a consent or by a role, from the moment it was given to its end. *As
  itself*: by consents of the kind application, and by roles; *for people*: by consents of the kind delegated. What a
  permission opens is all that it unlocks and that those unlock which it implies.
- **For so long**: what is to be so many days old is old enough at that moment, to the second.
- **Used**: a call that the guard of an API reported of an operation, by the client and of the kind. It counts for
  `use_counts_days`; and for the smallest permission held: one that is held beside another which it implies is used only
  by what the other does not open.
- **Weight**: of an operation, its effect (read 1, write 3, control 9) times the class of its data (open 1, internal 2,
  personal 4, restricted 8); of permissions, the sum over all operations that they open, each once, whatever the reach.
- **Seen at work**: when a credential of the client got a token last, or an API reported a call of it.
- **Granted permissions**: the client holds at least one, as itself or for people.
- **Looked back at**: rules that tell what was done before read the ledger: entries of less than 365 days, by a person
  or a client and not by Jamb itself, where nobody else had agreed to an act of the same person in the 90 days before.

Removed clients, and those that are part of Jamb itself, have no findings.
"""


def rules_page(rules: Sequence[Rule]) -> str:
    """Return what each rule looks for, as Markdown."""
    parts = [_INTRODUCTION]
    for family in Family:
        parts.append(f"\n## {family.value.capitalize()}\n")
        parts += [_on_page(rule) for rule in rules if rule.family is family]
    return "".join(parts)


def _on_page(rule: Rule) -> str:
    passed = f" Passed over: {'; '.join(rule.passed)}." if rule.passed else ""
    return (
        f"\n### {rule.title}\n\n`{rule.id}`. {rule.why}\n\n**When.** {rule.when}\n\n"
        f"**How bad.** {rule.how_bad}\n\n"
        f"**For example.** Found: {'; '.join(rule.found)}.{passed}\n\n*{rule.reference}*\n"
    )


def html_report(
    place: str,
    version: str,
    rules: Sequence[Rule],
    found: Iterable[Reported],
    now: datetime,
    history: Sequence[tuple[date, Excess]] = (),
) -> str:
    """Return a report as one page, with nothing from elsewhere: figures, trends, findings by rule, by client."""
    every = list(found)
    standing = [one for one in every if one.waived_until is None]
    title = f"Audit of {escape(place)}, {now:%Y-%m-%d}"
    return "".join(
        [
            "<!doctype html>\n<html lang='en'><head><meta charset='utf-8'>",
            f"<title>{title}</title><style>{_STYLE}</style></head><body>",
            f"<header><h1>{title}</h1><p class='soft'>As of {now:%Y-%m-%d %H:%M} UTC, by Jamb {escape(version)}.</p>",
            _figures(standing, len(every) - len(standing)),
            _trends(standing, history, now),
            _by_rule(rules, standing),
            "</header>",
            *(_rule(rule, [one for one in every if one.rule == rule.id]) for rule in rules),
            _by_client(standing),
            "</body></html>\n",
        ]
    )


def _figures(standing: Sequence[Reported], waived: int) -> str:
    counts = Counter(one.severity for one in standing)
    cells = [(str(counts[one]), one.word, one.word) for one in sorted(Severity, reverse=True)]
    cells += [(str(len({one.client_id for one in standing})), "clients concerned", ""), (str(waived), "waived", "")]
    shown = "".join(f"<div class='{kind}'><b>{number}</b>{words}</div>" for number, words, kind in cells)
    return f"<div class='figures'>{shown}</div>"


_WIDE, _TALL = 420, 90


def _trends(standing: Sequence[Reported], history: Sequence[tuple[date, Excess]], now: datetime) -> str:
    """Draw how excess went, and since when what is open is known."""
    judged = [(day, one.share) for day, one in history if one.share is not None]
    parts = []
    if judged:
        first, last = judged[0], judged[-1]
        words = f"Excess: {first[1]:.0%} on {first[0]:%Y-%m-%d}, {last[1]:.0%} on {last[0]:%Y-%m-%d}"
        parts.append(_figure(words, "of the granted weight is not used", [(day, share) for day, share in judged], 1.0))
    known = Counter(one.first_seen_at.date() for one in standing)
    days = [now.date() - timedelta(days=back) for back in range(89, -1, -1)]
    seen, rows = sum(count for day, count in known.items() if day < days[0]), []
    for day in days:
        seen += known[day]
        rows.append((day, float(seen)))
    older = sum(count for day, count in known.items() if day < days[0])
    words = f"Open findings: {len(standing)}, of which {older} are older than 90 days"
    parts.append(_figure(words, "of what is open today, known on each day", rows, max(float(seen), 1.0)))
    return f"<div class='trends'>{''.join(parts)}</div>"


def _figure(words: str, below: str, rows: Sequence[tuple[date, float]], most: float) -> str:
    wide = max(len(rows) - 1, 1)
    points = " ".join(
        f"{_WIDE * place / wide:.1f},{_TALL - _TALL * value / most:.1f}" for place, (_, value) in enumerate(rows)
    )
    line = f"<polyline points='{points}' fill='none' stroke='#1d5b73' stroke-width='2'/>" if len(rows) > 1 else ""
    base = f"<line x1='0' y1='{_TALL}' x2='{_WIDE}' y2='{_TALL}' stroke='#8f887a'/>"
    ends = (
        f"<text x='0' y='{_TALL + 14}'>{rows[0][0]:%Y-%m-%d}</text>"
        f"<text x='{_WIDE}' y='{_TALL + 14}' text-anchor='end'>{rows[-1][0]:%Y-%m-%d}</text>"
    )
    drawn = f"<svg viewBox='0 -4 {_WIDE} {_TALL + 22}' role='img' aria-label='{escape(words)}'>{base}{line}{ends}</svg>"
    caption = f"<figcaption>{escape(words)} <span class='soft'>{escape(below)}</span></figcaption>"
    return f"<figure>{caption}{drawn}</figure>"


def _by_rule(rules: Sequence[Rule], standing: Sequence[Reported]) -> str:
    counts = Counter(one.rule for one in standing)
    most = max(counts.values(), default=1)
    rows = "".join(
        f"<tr><td>{escape(rule.title)}</td><td class='number'>"
        f"<span class='bar' style='width:{12 * counts[rule.id] / most:.2f}rem'></span>{counts[rule.id]}</td></tr>"
        for rule in sorted(rules, key=lambda one: (-counts[one.id], one.title))
        if counts[rule.id]
    )
    return f"<table><thead><tr><th>Rule</th><th>Findings</th></tr></thead><tbody>{rows}</tbody></table>"


def _rule(rule: Rule, found: Sequence[Reported]) -> str:
    if not found:
        return ""
    rows = "".join(
        f"<tr><td class='{one.severity.word}'>{one.severity.word}</td><td>{escape(one.client_name)}</td>"
        f"<td>{escape(one.title)}<br><span class='soft'>{escape(_evidence(one))}</span></td>"
        f"<td class='number'>{one.first_seen_at:%Y-%m-%d}</td><td>{escape(_remedy(one))}</td></tr>"
        for one in found
    )
    head = "<th>Severity</th><th>Client</th><th>What is wrong, and the evidence</th><th>Since</th><th>What to do</th>"
    return (
        f"<section><h2>{escape(rule.title)}</h2><p>{escape(rule.why)} {_coded(rule.when)} {_coded(rule.how_bad)} "
        f"<span class='soft'>{escape(rule.reference)}</span></p>"
        f"<table><thead><tr>{head}</tr></thead><tbody>{rows}</tbody></table></section>"
    )


def _coded(words: str) -> str:
    """Set names of settings, which stand between back quotes, as such."""
    return re.sub(r"`([a-z_]+)`", r"<code>\1</code>", escape(words))


def _by_client(standing: Sequence[Reported]) -> str:
    names: dict[str, list[Reported]] = {}
    for one in sorted(standing, key=lambda row: (row.client_name.casefold(), -row.severity)):
        names.setdefault(one.client_name, []).append(one)
    rows = "".join(
        f"<tr><td>{escape(name)}</td><td>{escape('; '.join(one.title for one in found))}</td></tr>"
        for name, found in names.items()
    )
    return (
        "<section class='part'><h2>By client</h2><table><thead><tr><th>Client</th><th>What is wrong</th></tr></thead>"
        f"<tbody>{rows}</tbody></table></section>"
    )


def _evidence(one: Reported) -> str:
    return "; ".join(f"{name}: {value}" for name, value in one.evidence.items())


def _remedy(one: Reported) -> str:
    if one.waived_until is not None:
        return f"Waived until {one.waived_until:%Y-%m-%d} by {one.waived_by}: {one.waived_reason}"
    if not one.assigned_to:
        return one.remedy
    return f"{one.remedy} {one.assigned_to} sees to it" + (f", and says: {one.answer}" if one.answer else ".")
