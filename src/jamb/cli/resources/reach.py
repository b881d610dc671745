"""Prove what a client can and cannot touch."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.output import EXIT_FOUND, ClientArgument, Form, Output, emit, heading, note, out, plural, table
from jamb.client import BadInput, Jamb
from jamb.wire.resources.reach import ReachSheet

app = typer.Typer(no_args_is_help=True)
ResourceOption = Annotated[
    str | None, typer.Option(help="The resource; needed when the client holds something at several")
]


@app.command("test")
def try_object(
    client: ClientArgument,
    name: Annotated[str, typer.Argument(metavar="OBJECT", help="One object, as a berth or a mailbox")],
    resource: ResourceOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Say for one object what the client can do to it and what not. Leaves with code 1 when it can do nothing."""
    with connected() as jamb:
        found = _read(jamb, client, resource, name)
    allowed = [one for one in found.decisions if one.allowed]

    def show() -> None:
        lies = ", ".join(found.object_in) or "no collection"
        heading(f"“{found.client_name}” and {found.object_name or 'object'} {name} at {found.title} (in {lies})")
        table(
            ["", "operation", "what it does", "why"],
            [
                [
                    Text("yes", style="green") if one.allowed else Text("no", style="red"),
                    one.operation,
                    one.title,
                    one.why,
                ]
                for one in found.decisions
            ],
        )

    emit(found, output, show)
    if not allowed:
        raise typer.Exit(EXIT_FOUND)


@app.command()
def sheet(client: ClientArgument, resource: ResourceOption = None, output: Output = Form.TABLE) -> None:
    """Print the proof sheet: every collection, allowed or not, and why; to hand to whoever asked."""
    with connected() as jamb:
        found = _read(jamb, client, resource, None)
    emit(found, output, lambda: _show_sheet(found))


def _read(jamb: Jamb, client: str, resource: str | None, name: str | None) -> ReachSheet:
    found = jamb.clients.find(client)
    if resource is None:
        places = [place.resource for place in jamb.clients.read(found.id).resources if place.object_name]
        if len(places) != 1:
            held = ", ".join(places) or "none with objects"
            raise BadInput.field("--resource", "nothing", f"one of those at which it holds something: {held}")
        resource = places[0]
    return jamb.clients.reach(found.id, resource, object=name)


def _show_sheet(found: ReachSheet) -> None:
    heading(f"What “{found.client_name}” can touch at {found.title}")
    out.print(f"{found.at:%Y-%m-%d %H:%M} UTC, client id {found.client_id}, acting as itself", style="dim")
    if not found.live:
        out.print(Text("The client is disabled: nothing is possible.", style="red"))
    bounded = [one for one in found.operations if one.lines is not None]
    lines = bounded[0].lines if bounded and bounded[0].lines else []
    if lines:
        out.print("")
        table(
            ["collection", plural(found.object_name), *(one.operation for one in bounded)],
            [
                [f"{'  ' * line.path.count('/')}{line.title} ({line.path})", str(line.objects)]
                + [_verdict(one.lines[place].verdict) for one in bounded if one.lines]
                for place, line in enumerate(lines)
            ],
            right=[plural(found.object_name)],
        )
    for one in found.operations:
        if one.lines is None:
            out.print(
                _verdict("yes" if one.possible else "no").append(f"  {one.operation}: {one.why}", style="default")
            )
    out.print("")
    for one in bounded:
        beyond = "; also what lies in no collection" if one.uncollected and one.possible else ""
        note(f"{one.operation}: {one.why}{beyond}")


def _verdict(word: str) -> Text:
    return Text(word, style={"yes": "green", "no": "red", "in part": "yellow"}[word])
