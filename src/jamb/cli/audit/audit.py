"""The audit: what is wrong, since when; for pipelines and other tools; waivers and assignments."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from enum import StrEnum
from itertools import islice
from pathlib import Path
from typing import Annotated

import typer
from rich.padding import Padding
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ExceptOption, OnlyOption, reach_of, read_json, read_text
from jamb.cli.base.output import EXIT_FOUND, Form, Output, YesOption, confirm, emit, err, note, out, relative, table
from jamb.cli.base.progress import progress
from jamb.client import BadInput, Forbidden, Jamb, NotFound
from jamb.client.audit.evidence import verify_evidence
from jamb.core.audit.reports import ReportForm, fingerprints_in
from jamb.core.lists import ExcessBy
from jamb.wire.audit.audit import Audit, Excess, KeptFinding, Severity
from jamb.wire.audit.remedies import RemedyPreview

app = typer.Typer()
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
            _show(posture, found[:limit], by, known if baseline is not None else None)
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
        found = _find(jamb, finding)
        seen = jamb.findings.preview_remedy(found.id)
        if dry_run or seen.by_hand:
            emit(seen, output, lambda: _show_remedy(found, seen))
            return
        if output is Form.TABLE:
            _show_remedy(found, seen)
        if seen.why_not:
            raise Forbidden(seen.why_not, next_step="Ask somebody who may, or assign it to them.")
        confirm(f"{seen.title}?", yes)
        done = jamb.findings.resolve(found.id, reason=reason, login=login, reach=reach_of(only, all_but))
    emit({"finding": str(found.id), "done": done}, output, lambda: out.print(done, markup=False))


@app.command()
def excess(
    by: Annotated[ExcessBy, typer.Option(help="client, owner or resource")] = ExcessBy.CLIENT,
    output: Output = Form.TABLE,
) -> None:
    """Show weight granted, used and unused, the most unused first."""
    with connected() as jamb:
        posture, rows = jamb.audit(), jamb.findings.excess(by.value)

    def show() -> None:
        out.print(Text(f"{posture.directory}: {excess_words(posture.excess)}", style="bold"))
        table(
            [by.value, "granted", "used", "unused", "too early", "excess"],
            [
                [one.title, *map(weight_words, (one.granted, one.used, one.unused, one.early)), _share(one)]
                for one in rows
            ],
            right=["granted", "used", "unused", "too early", "excess"],
        )

    emit({"directory": posture.excess.model_dump(), "rows": [one.model_dump() for one in rows]}, output, show)


@app.command()
def escalation(output: Output = Form.TABLE) -> None:
    """Show the shortest escalation paths from weak people and clients to strong ones, and the one change that closes
    the most of them.
    """
    with connected() as jamb:
        found = jamb.findings.escalation_paths()

    def show() -> None:
        words = "escalation path" if found.pairs == 1 else "escalation paths"
        out.print(f"{found.pairs} {words} from below a weight of {found.weak_below} to {found.strong_from} or more.")
        for way in found.paths:
            line = Text(f"\n{way.source.name}", style="bold")
            line.append(f" ({way.source.weight:g})", style="dim")
            out.print(line)
            over = ""
            for step in way.steps:
                if step.to.kind == "every":
                    over = f"{step.by}, over every client"
                    continue
                out.print(f"  → {over or step.by} → {step.to.name} ({step.to.weight:g})", markup=False)
                over = ""
        if found.cuts:
            out.print("\n[bold]Changes that close the most paths[/bold]")
            for cut in found.cuts:
                out.print(f"  {cut.closes:>4}  {cut.words}", markup=False)

    emit(found, output, show)


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


@app.command()
def evidence(
    save: Annotated[Path, typer.Option(help="File to write, as evidence.zip")],
) -> None:
    """Take reports, registrations, reviews and the ledger's head along, signed by the directory."""
    with connected() as jamb:
        size = jamb.findings.save_evidence(save)
    out.print(f"Written to {save}, {size:,} bytes. Verify it offline: jamb audit verify-evidence {save}", markup=False)


@app.command("verify-evidence")
def verify(
    bundle: Annotated[Path, typer.Argument(metavar="FILE", help="As `jamb audit evidence` wrote it")],
    keys: Annotated[
        Path | None, typer.Option(help="The directory's published keys, kept from before (the issuer's jwks)")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Verify evidence without asking anybody: the signature, and every file against it."""
    found = verify_evidence(bundle, read_json("--keys", keys) if keys is not None else None)

    def show() -> None:
        out.print(f"Nothing was altered: {len(found.files)} files of {found.directory}, {found.made_at}.")
        out.print(f"The ledger had {found.ledger_entries} entries, head {found.ledger_head}.", markup=False)
        if not found.trusted:
            note("The keys came with the bundle: give --keys to know who signed it.")

    emit(asdict(found), output, show)


@app.command()
def waive(
    finding: FindingArgument,
    days: Annotated[int, typer.Option(help="For how long; then it comes back")],
    reason: Annotated[str, typer.Option(help="Why it is waived")],
    output: Output = Form.TABLE,
) -> None:
    """Waive a finding for some days."""
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


@app.command()
def mine(output: Output = Form.TABLE) -> None:
    """List the findings that you are to see to."""
    with connected() as jamb:
        found = jamb.findings.mine()

    def show() -> None:
        if not found:
            out.print("Nothing is given to you.")
        for one in found:
            line = Text(f"{one.severity:<7}", style=_STYLE[one.severity]).append(
                f"{str(one.id)[:_SHORT]}  ", style="dim"
            )
            out.print(line.append(one.client_name, style="bold default").append(f"  {one.title}", style="default"))
            out.print(f"         → {one.remedy}", markup=False)
            said = f"{one.assigned_by}, {relative(one.assigned_at)}" + (f": {one.note}" if one.note else "")
            out.print(Text(f"         {said}", style="dim"))
            if one.answer:
                out.print(Text(f"         you, {relative(one.answered_at)}: {one.answer}", style="dim"))

    emit(found, output, show)


@app.command()
def answer(
    finding: FindingArgument,
    words: Annotated[str, typer.Argument(metavar="WORDS", help="What you did or found")],
    output: Output = Form.TABLE,
) -> None:
    """Answer for a finding that you are to see to."""
    with connected() as jamb:
        given = [one for one in jamb.findings.mine() if str(one.id).startswith(finding.strip().lower())]
        if len(given) != 1:
            raise NotFound(
                f"Nothing, or several, of what is given to you begin with “{finding[:40]}”.",
                next_step="See `jamb audit mine`.",
            )
        done = jamb.findings.answer(given[0].client_id, given[0].id, words)
    who = done.assigned_by or "Whoever gave it to you"
    emit(done, output, lambda: out.print(f"Answered: {who} hears of it.", markup=False))


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


def _find(jamb: Jamb, reference: str) -> KeptFinding:
    found = jamb.findings.find(reference)
    if found is None:
        raise NotFound(
            f"No finding, or several, begin with “{reference[:40]}”.",
            next_step="Give more of its id: `jamb audit` shows it.",
        )
    return found


def _show(posture: Audit, found: Sequence[KeptFinding], by: Grouping, known: frozenset[str] | None) -> None:
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
        _show_group(findings, by, titles, known)
    note("\n`jamb audit resolve ID` resolves one; `jamb audit rules` says why each matters.")


def excess_words(one: Excess) -> str:
    if one.share is None:
        return "Excess: too early to say."
    early = f"; a weight of {weight_words(one.early)} is too early to tell" if one.early else ""
    unused, granted = weight_words(one.unused), weight_words(one.granted)
    return f"Excess: {one.share:.0%} of the granted weight is not used ({unused} of {granted}){early}."


def weight_words(weight: float) -> str:
    """Return a weight as precisely as it says something."""
    return f"{weight:,.0f}" if weight >= 10 or weight == int(weight) else f"{weight:.1f}"


def _share(one: Excess) -> str:
    return "too early" if one.share is None else f"{one.share:.0%}"


def _show_remedy(found: KeptFinding, seen: RemedyPreview) -> None:
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


def _show_group(
    findings: Sequence[KeptFinding], by: Grouping, titles: dict[str, str], known: frozenset[str] | None
) -> None:
    for one in findings:
        line = Text(
            f"  {one.severity:<7}", style="dim" if one.resolved_at or one.waived_until else _STYLE[one.severity]
        )
        line.append(f"{str(one.id)[:_SHORT]}  ", style="dim default")
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
