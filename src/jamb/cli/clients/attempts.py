"""What a client tried: refused calls and token requests."""

from __future__ import annotations

import shlex
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    emit,
    out,
    relative,
)


def refusals(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """List the calls that protected APIs refused, latest first; `jamb explain` says why in full."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        rows = list(jamb.clients.refusals(found.id))

    def show_rows() -> None:
        if not rows:
            out.print("No call was refused.")
        for row in rows:
            to = f" to {row.object}" if row.object else ""
            line = f"{relative(row.last_at)}  {row.calls} × {row.operation}{to}: {row.reason}"
            out.print(Text("✗ ", style="red").append(line, style="default"))
            command = ["jamb", "explain", found.id, row.operation, "--resource", row.resource]
            command += ["--object", row.object] if row.object else []
            out.print(f"    {shlex.join(command)}", style="cyan", markup=False)

    emit(rows, output, show_rows)


def attempts(
    client: ClientArgument,
    failed: Annotated[bool, typer.Option("--failed", help="Only those that failed")] = False,
    limit: Annotated[int, typer.Option(min=1, help="How many at the most")] = 20,
    output: Output = Form.TABLE,
) -> None:
    """List token requests, newest first, with what to do about failures."""
    with connected() as jamb:
        found = jamb.clients.attempts(jamb.clients.find(client).id, failed=failed)
        rows = [attempt for attempt, _ in zip(found, range(limit), strict=False)]

    def show_rows() -> None:
        if not rows:
            out.print("No token requests yet." if not failed else "No token request failed.")
        for row in rows:
            good = row.outcome == "issued"
            mark = Text("✓ ", style="green") if good else Text("✗ ", style="red")
            times = f"  {row.times} times within a minute" if row.times > 1 else ""
            out.print(mark.append(f"{relative(row.at)}  {row.outcome}  {row.hint}{times}", style="default"))
            out.print(f"    {row.detail}", markup=False)
            if row.remedy:
                out.print(f"    → {row.remedy}", markup=False)
            out.print(
                f"    from {row.address or 'unknown'} by {row.user_agent or 'unnamed'}", style="dim", markup=False
            )

    emit(rows, output, show_rows)
