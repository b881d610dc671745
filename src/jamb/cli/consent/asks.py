"""Asks: one permission or a list from a manual; take one back; let a client inherit what one may do."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import (
    DelegatedOption,
    ExceptOption,
    OnlyOption,
    ReasonOption,
    ResourceArgument,
    kind_of,
    reach_by_resource,
    reach_of,
    read_text,
)
from jamb.cli.base.output import ClientArgument, Form, Output, YesOption, confirm, emit, heading, note, out, table
from jamb.client import BadInput
from jamb.core.consent.inheritance import InheritedLevel
from jamb.wire.consent.consent import Ask, CheckedList, Inheritance, InheritedChoice, ListedAsk

app = typer.Typer(no_args_is_help=True)


@app.command()
def add(
    client: ClientArgument,
    resource: ResourceArgument,
    permissions: Annotated[list[str], typer.Argument(metavar="PERMISSION...", help="Permissions of that resource")],
    reason: Annotated[str, typer.Option(help="Why it needs them")] = "",
    delegated: DelegatedOption = False,
    only: OnlyOption = None,
    all_but: ExceptOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Ask for permissions, with the reach wished for. An ask opens nothing until an approver consents."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        reach = reach_of(only, all_but)
        made = list(jamb.asks.add(found.id, resource, permissions, kind=kind_of(delegated), reason=reason, reach=reach))
    emit(made, output, lambda: _show_asked(found.name, made))


@app.command()
def paste(
    client: ClientArgument,
    file: Annotated[Path, typer.Argument(help="A list from a manual; - for standard input")] = Path("-"),
    reason: Annotated[str, typer.Option(help="Why it needs them")] = "",
    delegated: DelegatedOption = False,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what is in the list")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Ask for a list of permissions, after saying which are unknown, redundant or heavy."""
    text, kind = read_text("FILE", file), kind_of(delegated)
    with connected() as jamb:
        found = jamb.clients.find(client)
        checked = jamb.asks.check(found.id, text, kind=kind)
        if output is Form.TABLE:
            _show_checked(checked)
        if dry_run:
            emit(checked, output, lambda: None)
            return
        needed = [one.permission for one in checked.asks if one.needed]
        if needed and not checked.unknown and not checked.unclear and output is Form.TABLE:
            confirm(f"Ask for {', '.join(needed)}?", yes)
        made = list(jamb.asks.add_list(found.id, text, kind=kind, reason=reason))
    emit(made, output, lambda: _show_asked(found.name, made))


@app.command()
def drop(
    client: ClientArgument,
    resource: ResourceArgument,
    permission: Annotated[str, typer.Argument(help="The permission that is no longer needed")],
    delegated: DelegatedOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Take an ask back. A consent to it stays until it is withdrawn."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        rungs = {
            (place.resource, rung.permission, rung.kind): rung.ask_id
            for place in jamb.clients.read(found.id).resources
            for rung in place.rungs
        }
        ask_id = rungs.get((jamb.resources.read(resource).name, permission, kind_of(delegated)))
        if ask_id is None:
            asked = ", ".join(sorted({name for _, name, _ in rungs})) or "nothing"
            raise BadInput.field("PERMISSION", permission, f"one that it asks for: {asked}")
        dropped = jamb.asks.drop(found.id, ask_id)
    said = f"“{found.name}” no longer asks for {dropped.permission}."
    emit(dropped, output, lambda: out.print(said, markup=False))


@app.command("inherit")
def inherit(
    client: ClientArgument,
    level: Annotated[
        list[str] | None,
        typer.Option(help="RESOURCE=LEVEL with nothing, read, read-and-write or all; what is not named: nothing"),
    ] = None,
    only: OnlyOption = None,
    all_but: ExceptOption = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show what would be asked for")] = False,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Let a client inherit what your own roles allow, never more: all of it, or narrowed by resource.

    Collections are written as RESOURCE:COLLECTION.
    """
    choices = _choices(level, only, all_but)
    with connected() as jamb:
        found = jamb.clients.find(client)
        seen = jamb.asks.inherit(found.id, choices, preview=True)
        if output is Form.TABLE:
            _show_inheritance(seen)
        if dry_run:
            emit(seen, output, lambda: None)
            return
        if output is Form.TABLE:
            confirm(f"Ask for this on behalf of “{found.name}”?", yes)
        made = jamb.asks.inherit(found.id, choices, reason=reason)

    def show() -> None:
        _show_asked(found.name, made.asked)
        if made.granted:
            out.print(Text("Granted at once: the policy lets a client inherit what its maker may do.", style="green"))

    emit(made, output, show)


def _choices(
    levels: list[str] | None, only: list[str] | None, all_but: list[str] | None
) -> dict[str, InheritedChoice] | None:
    reaches = reach_by_resource(only, all_but)
    if levels is None and not reaches:
        return None
    choices: dict[str, InheritedChoice] = {}
    for one in levels or []:
        resource, equals, level = one.partition("=")
        if not equals or level not in set(InheritedLevel):
            raise BadInput.field("--level", one, "RESOURCE=LEVEL, as berths=read")
        choices[resource] = InheritedChoice(level=InheritedLevel(level), reach=reaches.get(resource))
    for resource, reach in reaches.items():
        choices.setdefault(resource, InheritedChoice(reach=reach))
    return choices


def _show_asked(name: str, made: list[Ask]) -> None:
    names = ", ".join(dict.fromkeys(one.permission for one in made))
    out.print(f"“{name}” asks for {names}. It waits for consent.", markup=False)
    for one in made:
        if one.implied_by:
            note(f"{one.permission} comes along with {one.implied_by} anyway: it can be dropped.")


def _show_checked(checked: CheckedList) -> None:
    if checked.asks:
        table(
            ["resource", "permission", "kind", "weight", "verdict"],
            [[one.resource, one.permission, one.kind, str(one.weight), _verdict(one)] for one in checked.asks],
            right=["weight"],
        )
    for word in checked.unknown:
        out.print(Text(f"Unknown: {word}", style="red"))
    for unclear in checked.unclear:
        out.print(Text(f"Unclear: {unclear.name}: {unclear.why}", style="red"))


def _verdict(listed: ListedAsk) -> Text:
    if listed.asked:
        return Text("asked already", style="dim")
    if listed.implied_by:
        return Text(f"redundant: comes along with {listed.implied_by}", style="yellow")
    if listed.control:
        return Text(f"heavy: opens {', '.join(listed.control)}", style="red")
    return Text("needed")


def _show_inheritance(seen: Inheritance) -> None:
    if not seen.lines:
        note("You hold no role at any resource: there is nothing to inherit.")
        return
    heading("What would be asked for")
    rows: list[list[str | Text]] = []
    for line in seen.lines:
        names = ", ".join(
            one.permission + ("" if one.reach.words == "everywhere" else f" ({one.reach.words})")
            for one in line.permissions
        )
        rows.append([line.resource, ", ".join(line.roles), line.level, names or "—", str(line.weight)])
    table(["resource", "your roles", "level", "permissions", "weight"], rows, right=["weight"])
