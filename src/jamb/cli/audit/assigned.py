"""Findings assigned to somebody, waivers, and answers."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.audit.showing import SHORT, STYLE, FindingArgument, find_finding
from jamb.cli.base.connection import connected
from jamb.cli.base.output import Form, Output, emit, out, relative
from jamb.client import NotFound


def waive(
    finding: FindingArgument,
    days: Annotated[int, typer.Option(help="For how long; then it comes back")],
    reason: Annotated[str, typer.Option(help="Why it is waived")],
    output: Output = Form.TABLE,
) -> None:
    """Waive a finding for some days."""
    with connected() as jamb:
        done = jamb.findings.waive(find_finding(jamb, finding).id, days=days, reason=reason)
    emit(done, output, lambda: out.print(f"Waived: it comes back {relative(done.waived_until)}.", markup=False))


def end_waiver(finding: FindingArgument, output: Output = Form.TABLE) -> None:
    """Count a waived finding again."""
    with connected() as jamb:
        done = jamb.findings.end_waiver(find_finding(jamb, finding).id)
    emit(done, output, lambda: out.print(f"It counts again: {done.client_name}, {done.title}.", markup=False))


def assign(
    finding: FindingArgument,
    to: Annotated[str, typer.Option(metavar="LOGIN", help="Who sees to it; empty: nobody")],
    words: Annotated[str, typer.Option("--note", help="What is to be done, or was said")] = "",
    output: Output = Form.TABLE,
) -> None:
    """Have a person see to a finding."""
    with connected() as jamb:
        done = jamb.findings.assign(find_finding(jamb, finding).id, to, note=words)
    who = done.assigned_to or "nobody"
    emit(done, output, lambda: out.print(f"{who} sees to it: {done.client_name}, {done.title}.", markup=False))


def mine(output: Output = Form.TABLE) -> None:
    """List the findings that you are to see to."""
    with connected() as jamb:
        found = jamb.findings.mine()

    def show() -> None:
        if not found:
            out.print("Nothing is given to you.")
        for one in found:
            line = Text(f"{one.severity:<7}", style=STYLE[one.severity]).append(f"{str(one.id)[:SHORT]}  ", style="dim")
            out.print(line.append(one.client_name, style="bold default").append(f"  {one.title}", style="default"))
            out.print(f"         → {one.remedy}", markup=False)
            said = f"{one.assigned_by}, {relative(one.assigned_at)}" + (f": {one.note}" if one.note else "")
            out.print(Text(f"         {said}", style="dim"))
            if one.answer:
                out.print(Text(f"         you, {relative(one.answered_at)}: {one.answer}", style="dim"))

    emit(found, output, show)


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
