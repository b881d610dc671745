"""Probe a client at a resource."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.padding import Padding
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import read_text
from jamb.cli.base.output import EXIT_FOUND, ClientArgument, Form, Output, emit, heading, out
from jamb.cli.resources.access import show_explanation
from jamb.wire.resources.probe import Probe, TokenStep


def probe(
    client: ClientArgument,
    operation: Annotated[str, typer.Argument(help="An operation of the resource")],
    resource: Annotated[str, typer.Option(help="Short name or identifier of the resource")],
    name: Annotated[str | None, typer.Option("--object", help="On this object, as a berth or a mailbox")] = None,
    secret_file: Annotated[
        Path | None, typer.Option(help="A file with the client's own secret, to try it too; - for standard input")
    ] = None,
    person: Annotated[str | None, typer.Option(help="Login of the person it acts for; else it acts as itself")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Try a client as its integrator would: fetch a token, read it, call the resource, explain the answer.

    Without its secret a token is made that serves the probe alone: everything is checked with it, and nothing is done.
    Leaves with code 1 when it does not work.
    """
    secret = read_text("--secret-file", secret_file).rstrip("\r\n") if secret_file is not None else None
    with connected() as jamb:
        found = jamb.clients.probe(
            jamb.clients.find(client).id, resource, operation, object=name, secret=secret, person=person
        )
    emit(found, output, lambda: _show(found))
    if not found.works:
        raise typer.Exit(EXIT_FOUND)


def _show(found: Probe) -> None:
    out.print(
        Text("✓ " if found.works else "✗ ", style="green" if found.works else "red").append(
            found.verdict, "bold default"
        )
    )
    heading(f"\nToken: {found.token.way}")
    if found.token.error:
        out.print(f"  {found.token.error}", markup=False)
    show_token(found.token)
    if found.call is not None:
        heading(f"\nCall: {found.call.method} {found.call.url}")
        status = f"{found.call.status}  " if found.call.status else ""
        out.print(f"  {status}{found.call.words}", markup=False)
        if found.call.said:
            out.print(f"  {found.call.said}", markup=False, style="dim")
    out.print()
    show_explanation(found.explanation)


def show_token(step: TokenStep) -> None:
    for one in (*step.header, *step.claims):
        line = Text(f"  {one.name:<22}", style="dim").append(one.value, "default")
        # A value may be copied, and is never broken; what it means goes below it where both do not fit.
        if line.cell_len + len(one.words) + 2 <= out.width:
            out.print(line.append(f"  {one.words}", "dim"))
        else:
            out.print(line, soft_wrap=True)
            out.print(Padding(Text(one.words, "dim"), (0, 0, 0, 24), expand=False))
    for wrong in step.wrong:
        out.print(Text("  ✗ ", style="red").append(wrong, "default"))
