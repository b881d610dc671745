"""Resources: look through a catalogue."""

from __future__ import annotations

from typing import Annotated

import typer

from jamb.cli.connection import connected
from jamb.cli.output import Form, Output, emit, heading, note, out, table
from jamb.wire.resources import Resource

app = typer.Typer(help="Resources and what unlocks what.", no_args_is_help=True)


@app.command("list")
def list_resources(output: Output = Form.TABLE) -> None:
    """List the resources of the directory."""
    with connected() as jamb:
        found = list(jamb.resources.list())
    rows = [[one.name, one.title, one.identifier, str(one.operations), str(one.permissions)] for one in found]
    columns = ["resource", "title", "identifier", "operations", "permissions"]
    emit(found, output, lambda: table(columns, rows, right=["operations", "permissions"]))


@app.command()
def show(
    resource: Annotated[str, typer.Argument(help="Short name or identifier")], output: Output = Form.TABLE
) -> None:
    """Show one catalogue: operations with what unlocks them, permissions with what they open."""
    with connected() as jamb:
        found = jamb.resources.read(resource)
    emit(found, output, lambda: _show(found))


def _show(found: Resource) -> None:
    out.print(f"[bold]{found.title}[/bold]  {found.identifier}")
    heading("\nOperations")
    table(
        ["operation", "what it does", "request", "effect", "data", "weight", "unlocked by, smallest first"],
        [
            [one.name, one.title, f"{one.method} {one.path}", one.effect, one.data_class, str(one.weight),
             ", ".join(one.unlocked_by)]
            for one in found.operations
        ],
        right=["weight"],
    )  # fmt: skip
    heading("\nPermissions")
    table(
        ["permission", "title", "held as", "opens", "implies", "weight"],
        [
            [one.name, one.title, ", ".join(one.kinds), ", ".join(one.opens), ", ".join(one.implies) or "—",
             str(one.weight)]
            for one in found.permissions
        ],
        right=["weight"],
    )  # fmt: skip
    note("Weight: effect (read 1, write 3, control 9) times data (open 1, internal 2, personal 4, restricted 8).")
