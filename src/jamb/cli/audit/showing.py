"""How findings and their remedies are shown."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.audit.excess import excess_words
from jamb.cli.base.output import note, out, relative
from jamb.client import Jamb, NotFound
from jamb.wire.audit.audit import Audit, KeptFinding, Severity
from jamb.wire.audit.remedies import RemedyPreview

STYLE = {Severity.LOW: "dim", Severity.MEDIUM: "yellow", Severity.HIGH: "red"}


# Of a finding's id what people type.
SHORT = 8


FindingArgument = Annotated[str, typer.Argument(metavar="FINDING", help="Its id, or how it begins")]


class Grouping(StrEnum):
    RULE = "rule"
    CLIENT = "client"


def find_finding(jamb: Jamb, reference: str) -> KeptFinding:
    found = jamb.findings.find(reference)
    if found is None:
        raise NotFound(
            f"No finding, or several, begin with “{reference[:40]}”.",
            next_step="Give more of its id: `jamb audit` shows it.",
        )
    return found


def show_report(posture: Audit, found: Sequence[KeptFinding], by: Grouping, known: frozenset[str] | None) -> None:
    words = ", ".join(f"{posture.open[one]} {one}" for one in reversed(Severity) if posture.open[one]) or "nothing"
    out.print(
        f"[bold]{posture.directory}[/bold]: {posture.clients} clients, {len(posture.rules)} rules, found: {words}"
    )
    out.print(excess_words(posture.excess), markup=False)
    if posture.left:
        note(f"{posture.left} clients have changed and are still to be looked at: `jamb audit evaluate`.")
    titles = {rule.id: rule.title for rule in posture.rules}
    groups: dict[str, list[KeptFinding]] = {}
    for one in found:
        groups.setdefault(titles[one.rule] if by is Grouping.RULE else one.client_name, []).append(one)
    for title, findings in groups.items():
        out.print(f"\n[bold]{title}[/bold]")
        show_group(findings, by, titles, known)
    note("\n`jamb audit resolve ID` resolves one; `jamb audit rules` says why each matters.")


def show_remedy(found: KeptFinding, seen: RemedyPreview) -> None:
    out.print(Text(f"{found.client_name}: {found.title}", style="bold"))
    out.print(f"  {seen.text}", markup=False)
    for words in seen.words:
        out.print(f"  {words}", markup=False)
    if seen.no_longer is not None and seen.resource:
        gone = ", ".join(seen.no_longer) or "nothing"
        out.print(f"  No longer possible at {seen.resource}: {gone}", markup=False)
        if seen.narrower:
            out.print(f"  For fewer objects: {', '.join(seen.narrower)}", markup=False)
    if seen.collections:
        out.print(f"  Bound it by --in: {', '.join(seen.collections)}", markup=False)
    if seen.by_hand:
        note("  This is done by hand: see the client.")


def show_group(
    findings: Sequence[KeptFinding], by: Grouping, titles: dict[str, str], known: frozenset[str] | None
) -> None:
    for one in findings:
        line = Text(f"  {one.severity:<7}", style="dim" if one.resolved_at or one.waived_until else STYLE[one.severity])
        line.append(f"{str(one.id)[:SHORT]}  ", style="dim default")
        line.append(one.client_name if by is Grouping.RULE else titles[one.rule], style="bold default")
        line.append(f"  {one.title}", style="default")
        out.print(line)
        history = [f"since {one.first_seen_at:%Y-%m-%d}"]
        if known is not None and one.fingerprint not in known:
            history.append("new since the baseline")
        if one.returned:
            history.append("came back" if one.returned == 1 else f"came back {one.returned} times")
        if one.assigned_to:
            history.append(f"{one.assigned_to} sees to it" + (f" ({one.note})" if one.note else ""))
            if one.answer:
                history[-1] += f", and says: {one.answer}"
        if one.waived_until:
            history.append(f"waived until {one.waived_until:%Y-%m-%d} by {one.waived_by}: {one.waived_reason}")
        if one.resolved_at:
            history.append(f"resolved {relative(one.resolved_at)}")
        out.print(Text(f"           {'; '.join(history)}", style="dim"))
        if not one.resolved_at and not one.waived_until:
            out.print(f"           → {one.remedy}", markup=False)
