"""The audit: what is wrong, since when; for pipelines and other tools; waivers and assignments."""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum
from itertools import islice
from pathlib import Path
from typing import Annotated

import typer
from rich.padding import Padding
from rich.text import Text

from jamb.cli.audit import assigned, evidence, excess
from jamb.cli.audit.showing import (
    FindingArgument,
    Grouping,
    find_finding,
    show_remedy,
    show_report,
)
from jamb.cli.base.connection import connected
from jamb.cli.base.options import ExceptOption, OnlyOption, reach_of, read_text
from jamb.cli.base.output import EXIT_FOUND, Form, Output, YesOption, confirm, emit, err, note, out
from jamb.cli.base.progress import progress
from jamb.client import BadInput, Forbidden
from jamb.core.audit.reports import ReportForm, fingerprints_in
from jamb.wire.audit.audit import KeptFinding, Severity

app = typer.Typer()
app.command()(excess.excess)
app.command()(excess.escalation)
app.command()(evidence.evidence)
app.command("verify-evidence")(evidence.verify)
app.command()(assigned.waive)
app.command("end-waiver")(assigned.end_waiver)
app.command()(assigned.assign)
app.command()(assigned.mine)
app.command()(assigned.answer)
_RANK = {Severity.LOW: 1, Severity.MEDIUM: 2, Severity.HIGH: 3}


class AuditForm(StrEnum):
    TABLE = "table"
    JSON = "json"
    SARIF = "sarif"
    CSV = "csv"
    JSONL = "jsonl"
    HTML = "html"


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
    rule: Annotated[str | None, typer.Option(help="Only of this rule")] = None,
    client: Annotated[str | None, typer.Option(help="Only of this client: its id or whole name")] = None,
    severity: Annotated[Severity | None, typer.Option(help="Only this bad or worse")] = None,
    limit: Annotated[int, typer.Option(min=1, help="How many to print for people; programs get all")] = 200,
    resolved: Annotated[
        bool, typer.Option("--resolved", help="Show what was resolved in the last thirty days, too")
    ] = False,
    output: Annotated[
        AuditForm, typer.Option("--output", "-o", help="For people, programs, or other tools")
    ] = AuditForm.TABLE,
) -> None:
    """Say what is wrong with the directory's registrations, worst first."""
    if context.invoked_subcommand is not None:
        return
    known = _known(baseline)
    narrowed = rule is not None or client is not None or severity is not None
    if narrowed and output not in {AuditForm.TABLE, AuditForm.JSON}:
        raise BadInput.field("--output", output.value, "table or json with --rule, --client or --severity")
    with connected() as jamb:
        posture = jamb.audit()
        which = ("open", "waived", *(("resolved",) if resolved else ()))
        client_id = jamb.clients.find(client).id if client is not None else None
        every = (
            one
            for name in which
            for one in jamb.findings.list(which=name, rule=rule, client=client_id, min_severity=severity)
        )
        # What is only printed is not read to its end.
        shortened = output is AuditForm.TABLE and fail_on is None
        found = list(islice(every, limit + 1) if shortened else every)
        if output is AuditForm.TABLE:
            show_report(posture, found[:limit], by, known if baseline is not None else None)
            if len(found) > limit:
                note(f"More than {limit}: narrow by --rule, --client or --severity, or take all by --output json.")
        elif output is AuditForm.JSON:
            everything = posture.model_dump(mode="json") | {"findings": [one.model_dump(mode="json") for one in found]}
            emit(everything, Form.JSON, lambda: None)
        else:
            typer.echo(jamb.findings.report(ReportForm(output.value)), nl=False)
    if fail_on is not None:
        _fail(found, fail_on, known)


@app.command()
def rules(output: Output = Form.TABLE) -> None:
    """List the rules: why each matters, exactly when it finds something, how bad that is, with examples."""
    with connected() as jamb:
        found = jamb.audit().rules

    def show() -> None:
        for rule in found:
            out.print(f"[bold]{rule.id}[/bold]  {rule.title}  [dim]{rule.family}[/dim]")
            for words in (rule.why, f"When: {rule.when}", f"How bad: {rule.how_bad}"):
                out.print(Padding(Text(words), (0, 0, 0, 2)))
            examples = [f"Found: {'; '.join(rule.found)}."]
            if rule.passed:
                examples.append(f"Passed over: {'; '.join(rule.passed)}.")
            out.print(Padding(Text(" ".join(examples)), (0, 0, 0, 2)))
            out.print(Padding(Text(f"{rule.reference}\n", style="dim"), (0, 0, 0, 2)))

    emit(found, output, show)


@app.command()
def resolve(
    finding: FindingArgument,
    reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "",
    login: Annotated[str, typer.Option(help="Of the new owner, where one is named")] = "",
    only: OnlyOption = None,
    all_but: ExceptOption = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what it would do, and do nothing")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Resolve a finding, after saying what that would do."""
    with connected() as jamb:
        found = find_finding(jamb, finding)
        seen = jamb.findings.preview_remedy(found.id)
        if dry_run or seen.by_hand:
            emit(seen, output, lambda: show_remedy(found, seen))
            return
        if output is Form.TABLE:
            show_remedy(found, seen)
        if seen.why_not:
            raise Forbidden(seen.why_not, next_step="Ask somebody who may, or assign it to them.")
        confirm(f"{seen.title}?", yes)
        done = jamb.findings.resolve(found.id, reason=reason, login=login, reach=reach_of(only, all_but))
    emit({"finding": str(found.id), "done": done}, output, lambda: out.print(done, markup=False))


@app.command()
def evaluate(
    anew: Annotated[bool, typer.Option("--all", help="Look at every client again, as after a change of rules")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Look at all that changed or came due now, instead of waiting for the service's own rounds."""
    with connected() as jamb, progress() as bar:
        done = jamb.findings.look_again(anew=anew, at_most=0)
        task = bar.add_task("clients", total=done.left)
        looked_at = 0
        while done.left:
            done = jamb.findings.look_again()
            looked_at += done.looked_at
            bar.update(task, completed=looked_at, total=looked_at + done.left)
    words = f"Looked at {looked_at} client{'' if looked_at == 1 else 's'}; nothing is left."
    emit({"looked_at": looked_at, "left": done.left}, output, lambda: out.print(words))


def _known(baseline: Path | None) -> frozenset[str]:
    if baseline is None:
        return frozenset()
    try:
        return fingerprints_in(read_text("--baseline", baseline))
    except ValueError as error:
        raise BadInput.field("--baseline", str(baseline), "a report that `jamb audit` wrote") from error


def _fail(found: Sequence[KeptFinding], fail_on: Severity, known: frozenset[str]) -> None:
    standing = [one for one in found if one.resolved_at is None and one.waived_until is None]
    bad = [one for one in standing if _RANK[one.severity] >= _RANK[fail_on] and one.fingerprint not in known]
    if bad:
        new = "new " if known else ""
        err.print(f"{len(bad)} {new}finding{'' if len(bad) == 1 else 's'} of severity {fail_on} or worse.")
        raise typer.Exit(EXIT_FOUND)
