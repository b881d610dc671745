"""Run the audit."""

from __future__ import annotations

from collections import Counter
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.connection import connected
from jamb.cli.output import EXIT_FOUND, Form, Output, emit, err, out
from jamb.wire.audit import Audit, Severity

app = typer.Typer(help="Find what is wrong with registrations.")
_RANK = {Severity.LOW: 1, Severity.MEDIUM: 2, Severity.HIGH: 3}
_STYLE = {Severity.LOW: "dim", Severity.MEDIUM: "yellow", Severity.HIGH: "red"}


@app.callback(invoke_without_command=True)
def audit(
    context: typer.Context,
    fail_on: Annotated[
        Severity | None, typer.Option(help="Leave with code 1 when something this bad or worse is found")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Run all rules over all clients of the directory."""
    if context.invoked_subcommand is not None:
        return
    with connected() as jamb:
        found = jamb.audit()
    emit(found, output, lambda: _show(found))
    if fail_on is not None:
        bad = sum(_RANK[one.severity] >= _RANK[fail_on] for one in found.findings)
        if bad:
            err.print(f"{bad} finding{'' if bad == 1 else 's'} of severity {fail_on} or worse.")
            raise typer.Exit(EXIT_FOUND)


@app.command()
def rules(output: Output = Form.TABLE) -> None:
    """List the rules: what each looks for and why it matters."""
    with connected() as jamb:
        found = jamb.audit().rules

    def show() -> None:
        for rule in found:
            out.print(f"[bold]{rule.id}[/bold]  {rule.title}")
            out.print(f"  {rule.why}", markup=False)
            out.print(f"  {rule.reference}\n", style="dim", markup=False)

    emit(found, output, show)


def _show(found: Audit) -> None:
    counts = Counter(one.severity for one in found.findings)
    words = ", ".join(f"{counts[one]} {one}" for one in reversed(Severity) if counts[one]) or "nothing"
    out.print(f"[bold]{found.directory}[/bold]: {found.clients} clients, findings: {words}")
    titles = {rule.id: rule.title for rule in found.rules}
    for severity in reversed(Severity):
        for one in (finding for finding in found.findings if finding.severity is severity):
            line = Text(f"\n{severity:<7}", style=_STYLE[severity])
            line.append(one.client_name, style="bold default")
            out.print(line.append(f"  {titles[one.rule]}", style="dim"))
            out.print(f"       {one.title}", markup=False)
            out.print(f"       → {one.mend}", markup=False)
