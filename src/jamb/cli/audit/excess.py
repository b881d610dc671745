"""Weight in excess of use, and escalation paths."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.output import Form, Output, emit, out, relative, table
from jamb.core.lists import ExcessBy
from jamb.wire.audit.audit import Excess


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


def escalation(output: Output = Form.TABLE) -> None:
    """Show the shortest escalation paths from weak people and clients to strong ones, and the one change that closes
    the most of them.
    """
    with connected() as jamb:
        found = jamb.findings.escalation_paths()

    def show() -> None:
        if not found.found:
            out.print("Nobody looked for escalation paths yet. The service does so now: ask again in some minutes.")
            return
        if found.as_of is not None:
            out.print(f"As they were found {relative(found.as_of)}. Records were changed since.")
            out.print("The service looks for them again within minutes.\n")
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
