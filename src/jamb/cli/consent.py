"""Asks and consent."""

from __future__ import annotations

from typing import Annotated
from uuid import UUID

import typer
from rich.text import Text

from jamb.cli.connection import connected
from jamb.cli.output import ClientArgument, Form, Output, YesOption, confirm, emit, heading, note, out, relative, table
from jamb.client import BadInput
from jamb.wire.consent import ConsentPreview

asks = typer.Typer(help="Say which permissions a client needs.", no_args_is_help=True)
app = typer.Typer(help="See what consent would make possible, and consent.", no_args_is_help=True)


@asks.command("add")
def add(
    client: ClientArgument,
    resource: Annotated[str, typer.Argument(help="Short name or identifier of the resource")],
    permissions: Annotated[list[str], typer.Argument(metavar="PERMISSION...", help="Permissions of that resource")],
    reason: Annotated[str, typer.Option(help="Why it needs them")] = "",
    output: Output = Form.TABLE,
) -> None:
    """Ask for application permissions. An ask opens nothing until an approver consents."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        made = list(jamb.asks.add(found.id, resource, permissions, reason=reason))
    names = ", ".join(one.permission for one in made)
    emit(made, output, lambda: out.print(f"“{found.name}” asks for {names}. It waits for consent.", markup=False))


@app.command()
def preview(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """Show what consent to the waiting asks would newly make possible. Changes nothing."""
    with connected() as jamb:
        found = jamb.consent.preview(jamb.clients.find(client).id)
    emit(found, output, lambda: show_preview(found))


@app.command()
def grant(
    client: ClientArgument,
    only: Annotated[list[str] | None, typer.Option(help="Only this permission; may be given again")] = None,
    reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Consent to what waits, after showing what it makes possible."""
    with connected() as jamb:
        found = jamb.consent.preview(jamb.clients.find(client).id)
        if only:
            found = jamb.consent.preview(found.client_id, asks=_chosen(found, only))
        waiting = [ask.id for place in found.resources for ask in place.asks]
        if waiting and output is Form.TABLE:
            show_preview(found)
            confirm(f"Grant {len(waiting)} permission{'' if len(waiting) == 1 else 's'} to “{found.client_name}”?", yes)
        # What was shown is what is granted: an ask that arrived meanwhile waits for its own look.
        made = list(jamb.consent.grant(found.client_id, asks=waiting or None, reason=reason))
    names = ", ".join(one.permission for one in made)
    emit(made, output, lambda: out.print(Text(f"Granted: {names}.", style="green")))


@app.command()
def withdraw(
    client: ClientArgument,
    resource: Annotated[str, typer.Argument(help="Short name or identifier of the resource")],
    permissions: Annotated[list[str], typer.Argument(metavar="PERMISSION...", help="Granted permissions to end")],
    reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """End the consent to permissions now. What it asks for stays asked."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        used = relative(found.last_used_at)
        names = ", ".join(permissions)
        confirm(f"End the consent to {names} at {resource} for “{found.name}” (last use {used})?", yes)
        ended = jamb.consent.withdraw(found.id, resource, permissions, reason=reason)

    def show() -> None:
        no_longer = ", ".join(ended.no_longer) or "nothing: other permissions open the same"
        out.print(f"Ended. No longer possible: {no_longer}.", markup=False)
        note(f"Tokens from before run out by themselves, the last {relative(ended.tokens_until)}.")

    emit(ended, output, show)


def _chosen(found: ConsentPreview, only: list[str]) -> list[UUID]:
    waiting = {ask.permission: ask.id for place in found.resources for ask in place.asks}
    for name in only:
        if name not in waiting:
            allowed = ", ".join(sorted(waiting)) or "nothing waits"
            raise BadInput.field("--only", name, f"a permission that waits: {allowed}")
    return [waiting[name] for name in only]


def show_preview(found: ConsentPreview) -> None:
    if not found.resources:
        out.print(f"“{found.client_name}” waits for nothing.", markup=False)
        return
    heading(f"“{found.client_name}” asks; its purpose: {found.purpose}")
    for place in found.resources:
        names = ", ".join(ask.permission for ask in place.asks)
        out.print(f"\nAt {place.title}, consent to {names} would newly make possible:", markup=False)
        if place.newly:
            table(
                ["operation", "what it does", "effect", "data", "weight"],
                [[one.name, one.title, one.effect, one.data_class, str(one.weight)] for one in place.newly],
                right=["weight"],
            )
        else:
            out.print("  nothing: all of it is possible already")
        if place.implied:
            note(f"Comes along by implication: {', '.join(place.implied)}")
        if place.redundant:
            note(f"Redundant, another of these implies it: {', '.join(place.redundant)}")
        if place.unchanged:
            note(f"Possible before and after: {len(place.unchanged)} operations")
