"""Explain a decision; say who can do an operation."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import DelegatedOption, ResourceArgument, kind_of, read_text
from jamb.cli.base.output import EXIT_FOUND, ClientArgument, Form, Output, emit, heading, note, out, relative, table
from jamb.wire.resources.access import Explanation, Holders


def explain(
    client: ClientArgument,
    operation: Annotated[str, typer.Argument(help="An operation of the resource")],
    resource: Annotated[str, typer.Option(help="Short name or identifier of the resource")],
    name: Annotated[str | None, typer.Option("--object", help="To this object, as a berth or a mailbox")] = None,
    delegated: DelegatedOption = False,
    person: Annotated[str | None, typer.Option(help="Login of the person it acts for (delegated)")] = None,
    token_file: Annotated[
        Path | None, typer.Option(help="A file with an access token, to judge it too; - for standard input")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Say whether a client may do an operation, every check behind it, and the smallest step.

    Leaves with code 1 when it may not.
    """
    with connected() as jamb:
        found = jamb.clients.explain(
            jamb.clients.find(client).id,
            resource,
            operation,
            kind=kind_of(delegated or person is not None),
            person=person,
            object=name,
            token=read_text("--token-file", token_file).strip() if token_file is not None else None,
        )
    emit(found, output, lambda: show_explanation(found))
    if not found.allowed:
        raise typer.Exit(EXIT_FOUND)


def show_explanation(found: Explanation) -> None:
    verdict = Text("allowed", style="bold green") if found.allowed else Text("refused", style="bold red")
    way = f" for {found.person}" if found.person else ""
    to = f" to {found.object}" if found.object is not None else ""
    out.print(Text(f"{found.client_name}{way}: {found.operation}{to} at {found.resource} is ").append(verdict))
    for check in found.checks:
        if check.passed:
            mark = Text("  ✓ ", style="green")
        else:
            mark = Text("  ✗ ", style="red") if check.decides else Text("  · ", style="dim")
        out.print(mark.append(f"{check.name:<12} {check.evidence}", style="default"))
    if found.steps:
        heading("\nThe smallest change that would allow it")
        for number, step in enumerate(found.steps, 1):
            weight = f"  (adds weight {step.added_weight:g})" if step.added_weight else ""
            out.print(f"  {number}. {step.text}{weight}", markup=False)
            if step.command:
                out.print(f"     {step.command}", style="cyan", markup=False, soft_wrap=True)
        if found.agreement:
            out.print(f"  {found.agreement}", markup=False)
    elif not found.allowed:
        out.print("\nNothing in the catalogue would turn this.")


def holders(
    resource: ResourceArgument,
    operation: Annotated[str, typer.Argument(help="An operation of the resource")],
    name: Annotated[str | None, typer.Option("--object", help="To this object, as a berth or a mailbox")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Say who can do an operation: all clients and people, and through what."""
    with connected() as jamb:
        found = jamb.resources.holders(resource, operation, object=name)
    emit(found, output, lambda: _show_holders(found))


def _show_holders(found: Holders) -> None:
    to = f" to {found.object}" if found.object is not None else ""
    heading(f"{found.operation.name}{to} at {found.resource}: {found.operation.title}")
    if found.object is not None:
        note(f"{found.object} lies in {', '.join(found.object_in) or 'no collection'}")
    out.print("")
    table(
        ["client", "acting", "by", "reach", "until"],
        [
            [
                one.client_name + ("" if one.live else " (disabled)"),
                "as itself" if one.kind == "application" else f"for {one.person or 'everyone'}",
                one.through or one.permission,
                one.reach.words,
                relative(one.expires_at, "no expiry"),
            ]
            for one in found.clients
        ],
    )
    out.print("")
    table(
        ["person", "by the role", "through", "reach"],
        [[one.name, one.role, one.through or "themselves", one.reach.words] for one in found.people],
    )
    if found.people_in_all > len(found.people):
        note(f"The first {len(found.people)} of {found.people_in_all} people are shown.")
    note("A client that acts for a person can do it only where both can.")
