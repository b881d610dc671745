"""Resources: look through a catalogue."""

from __future__ import annotations

import shlex
from typing import Annotated

import typer

from jamb.cli.connection import connected
from jamb.cli.output import Form, Output, emit, heading, note, out, table
from jamb.wire.resources import Proposal, Resource

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


@app.command()
def smallest(
    resource: Annotated[str, typer.Argument(help="Short name or identifier")],
    operations: Annotated[list[str], typer.Argument(metavar="OPERATION...", help="What must be possible")],
    client: Annotated[str | None, typer.Option(help="Beside what this client asks or holds (id or name)")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Propose the smallest permissions that open these operations, with what they open beyond."""
    with connected() as jamb:
        client_id = jamb.clients.find(client).id if client else None
        found = jamb.resources.smallest(resource, operations, client=client_id)
    emit(found, output, lambda: _show_proposal(found, client_id or "CLIENT"))


def _show_proposal(found: Proposal, client: str) -> None:
    if found.unreachable:
        out.print(f"No permission opens {', '.join(found.unreachable)}.", markup=False)
    if found.permissions:
        names = " ".join(found.permissions)
        beyond = ", ".join(one.name for one in found.beyond) or "nothing"
        out.print(f"[bold]{names}[/bold]  opens beyond the need: {beyond} (weight {found.beyond_weight})")
        if not found.exact:
            note(f"Not proven smallest: no set weighs less than {found.bound} beyond the need.")
        out.print(f"  jamb asks add {shlex.quote(client)} {found.resource} {names}", style="cyan", markup=False)
    elif not found.unreachable:
        out.print("Nothing needs asking: it is open already.")
    if len(found.alternatives) > len(found.permissions):
        heading("\nEvery permission that opens part of it")
        table(
            ["permission", "opens of the need", "beyond it", "weight"],
            [
                [one.permission, ", ".join(one.covers), ", ".join(one.beyond) or "—", str(one.beyond_weight)]
                for one in found.alternatives
            ],
            right=["weight"],
        )


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
