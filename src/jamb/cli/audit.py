"""The audit: what is wrong, since when; for pipelines and other tools; waivers and assignments."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.connection import connected
from jamb.cli.options import read_text
from jamb.cli.output import EXIT_FOUND, Form, Output, emit, err, note, out, relative
from jamb.client import BadInput, Jamb, NotFound
from jamb.core.audit.reports import ReportForm, fingerprints_in
from jamb.wire.audit import Audit, KeptFinding, Severity

app = typer.Typer(help="Find what is wrong with registrations.")
_RANK = {Severity.LOW: 1, Severity.MEDIUM: 2, Severity.HIGH: 3}
_STYLE = {Severity.LOW: "dim", Severity.MEDIUM: "yellow", Severity.HIGH: "red"}
# Of a finding's id what people type.
_SHORT = 8
FindingArgument = Annotated[str, typer.Argument(metavar="FINDING", help="Its id, or how it begins")]


class AuditForm(StrEnum):
    TABLE = "table"
    JSON = "json"
    SARIF = "sarif"
    CSV = "csv"
    JSONL = "jsonl"
    HTML = "html"


class Grouping(StrEnum):
    RULE = "rule"
    CLIENT = "client"


@app.callback(invoke_without_command=True)
def audit(
    context: typer.Context,
    fail_on: Annotated[
        Severity | None, typer.Option(help="Leave with code 1 when something this bad or worse is found")
    ] = None,
    baseline: Annotated[
        Path | None,
        typer.Option(help="An earlier report (json, jsonl or sarif): only what is new since then counts for --fail-on"),
    ] = None,
    by: Annotated[Grouping, typer.Option(help="Group by rule or client")] = Grouping.RULE,
    gone: Annotated[bool, typer.Option("--gone", help="Show what was mended in the last thirty days, too")] = False,
    output: Annotated[
        AuditForm, typer.Option("--output", "-o", help="For people, programs, or other tools")
    ] = AuditForm.TABLE,
) -> None:
    """Say what is wrong with the directory's registrations, worst first."""
    if context.invoked_subcommand is not None:
        return
    known = _known(baseline)
    with connected() as jamb:
        found = jamb.audit(gone=gone)
        if output in {AuditForm.TABLE, AuditForm.JSON}:
            form = Form.JSON if output is AuditForm.JSON else Form.TABLE
            emit(found, form, lambda: _show(found, by, known if baseline is not None else None))
        else:
            typer.echo(jamb.findings.report(ReportForm(output.value)), nl=False)
    if fail_on is not None:
        _fail(found, fail_on, known)


@app.command()
def rules(output: Output = Form.TABLE) -> None:
    """List the rules: what each looks for, why it matters, and how bad it is."""
    with connected() as jamb:
        found = jamb.audit().rules

    def show() -> None:
        for rule in found:
            out.print(f"[bold]{rule.id}[/bold]  {rule.title}  [dim]{rule.family}[/dim]")
            out.print(f"  {rule.why}", markup=False)
            out.print(f"  {rule.how_bad}", markup=False)
            out.print(f"  {rule.reference}\n", style="dim", markup=False)

    emit(found, output, show)


@app.command()
def waive(
    finding: FindingArgument,
    days: Annotated[int, typer.Option(help="For how long; then it comes back")],
    reason: Annotated[str, typer.Option(help="Why it is borne")],
    output: Output = Form.TABLE,
) -> None:
    """Bear a finding knowingly for some days."""
    with connected() as jamb:
        done = jamb.findings.waive(_find(jamb, finding).id, days=days, reason=reason)
    emit(done, output, lambda: out.print(f"Waived: it comes back {relative(done.waived_until)}.", markup=False))


@app.command("end-waiver")
def end_waiver(finding: FindingArgument, output: Output = Form.TABLE) -> None:
    """Count a waived finding again."""
    with connected() as jamb:
        done = jamb.findings.end_waiver(_find(jamb, finding).id)
    emit(done, output, lambda: out.print(f"It counts again: {done.client_name}, {done.title}.", markup=False))


@app.command()
def assign(
    finding: FindingArgument,
    to: Annotated[str, typer.Option(metavar="LOGIN", help="Who sees to it; empty: nobody")],
    words: Annotated[str, typer.Option("--note", help="What is to be done, or was said")] = "",
    output: Output = Form.TABLE,
) -> None:
    """Have a person see to a finding."""
    with connected() as jamb:
        done = jamb.findings.assign(_find(jamb, finding).id, to, note=words)
    who = done.assigned_to or "nobody"
    emit(done, output, lambda: out.print(f"{who} sees to it: {done.client_name}, {done.title}.", markup=False))


def _known(baseline: Path | None) -> frozenset[str]:
    if baseline is None:
        return frozenset()
    try:
        return fingerprints_in(read_text("--baseline", baseline))
    except ValueError as error:
        raise BadInput.field("--baseline", str(baseline), "a report that `jamb audit` wrote") from error


def _standing(found: Audit) -> list[KeptFinding]:
    return [one for one in found.findings if one.gone_at is None and one.waived_until is None]


def _fail(found: Audit, fail_on: Severity, known: frozenset[str]) -> None:
    bad = [one for one in _standing(found) if _RANK[one.severity] >= _RANK[fail_on] and one.fingerprint not in known]
    if bad:
        new = "new " if known else ""
        err.print(f"{len(bad)} {new}finding{'' if len(bad) == 1 else 's'} of severity {fail_on} or worse.")
        raise typer.Exit(EXIT_FOUND)


def _find(jamb: Jamb, reference: str) -> KeptFinding:
    wanted = reference.strip().lower()
    found = [one for one in jamb.audit(gone=True).findings if wanted and str(one.id).startswith(wanted)]
    if len(found) != 1:
        said = "Several findings begin" if found else "No finding begins"
        raise NotFound(f"{said} with “{reference[:40]}”.", next_step="Give more of its id: `jamb audit` shows it.")
    return found[0]


def _show(found: Audit, by: Grouping, known: frozenset[str] | None) -> None:
    counts = Counter(one.severity for one in _standing(found))
    words = ", ".join(f"{counts[one]} {one}" for one in reversed(Severity) if counts[one]) or "nothing"
    out.print(f"[bold]{found.directory}[/bold]: {found.clients} clients, {len(found.rules)} rules, found: {words}")
    if found.left:
        note(f"{found.left} clients have changed and are still to be looked at: ask again in a minute.")
    titles = {rule.id: rule.title for rule in found.rules}
    groups: dict[str, list[KeptFinding]] = {}
    for one in found.findings:
        groups.setdefault(titles[one.rule] if by is Grouping.RULE else one.client_name, []).append(one)
    for title, findings in groups.items():
        out.print(f"\n[bold]{title}[/bold]")
        _show_group(findings, by, titles, known)
    note("\nSee why a rule matters with `jamb audit rules`; `--by client` groups the other way.")


def _show_group(
    findings: Sequence[KeptFinding], by: Grouping, titles: dict[str, str], known: frozenset[str] | None
) -> None:
    for one in findings:
        line = Text(f"  {one.severity:<7}", style="dim" if one.gone_at or one.waived_until else _STYLE[one.severity])
        line.append(f"{str(one.id)[:_SHORT]}  ", style="dim")
        line.append(one.client_name if by is Grouping.RULE else titles[one.rule], style="bold default")
        line.append(f"  {one.title}", style="default")
        out.print(line)
        history = [f"since {one.first_seen_at:%Y-%m-%d}"]
        if known is not None and one.fingerprint not in known:
            history.append("new since the baseline")
        if one.returned:
            history.append("came back" if one.returned == 1 else f"came back {one.returned} times")
        if one.assigned_to:
            history.append(f"{one.assigned_to} sees to it" + (f": {one.note}" if one.note else ""))
        if one.waived_until:
            history.append(f"waived until {one.waived_until:%Y-%m-%d} by {one.waived_by}: {one.waived_reason}")
        if one.gone_at:
            history.append(f"mended {relative(one.gone_at)}")
        out.print(Text(f"           {'; '.join(history)}", style="dim"))
        if not one.gone_at and not one.waived_until:
            out.print(f"           → {one.mend}", markup=False)
