"""Resources: look through a catalogue, publish one, keep its collections."""

from __future__ import annotations

import json
import shlex
from pathlib import Path
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ResourceArgument, read_json
from jamb.cli.base.output import (
    EXIT_REFUSED,
    Form,
    IfMatchOption,
    Output,
    YesOption,
    confirm,
    emit,
    heading,
    note,
    out,
    plural,
    table,
)
from jamb.cli.credentials.private_files import write_private
from jamb.client.resources.guards import as_published, set_up_guard
from jamb.core.errors import BadInput
from jamb.core.permissions import DataClass
from jamb.wire.base.shapes import checked
from jamb.wire.resources.reach import CollectionsSent
from jamb.wire.resources.resources import (
    Proposal,
    Resource,
    ResourceChange,
    ResourceSent,
)

app = typer.Typer(no_args_is_help=True)


@app.command("list")
def list_resources(
    find: Annotated[str | None, typer.Option(help="Part of the name, title or identifier")] = None,
    output: Output = Form.TABLE,
) -> None:
    """List the resources of the directory."""
    with connected() as jamb:
        found = list(jamb.resources.list(q=find))
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


@app.command("answers-at")
def answers_at(
    resource: ResourceArgument,
    url: Annotated[str, typer.Argument(help="Its base URL, as https://berths.port.example; empty for nowhere")],
    if_match: IfMatchOption = None,
) -> None:
    """Say where a resource answers, so that clients can be probed there."""
    with connected() as jamb:
        told = jamb.resources.set_address(resource, url, if_match=if_match)
    out.print(
        f"{resource} answers at {told}." if told else f"{resource} answers nowhere that may be called.", markup=False
    )


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


@app.command()
def draft(
    document: Annotated[Path, typer.Argument(help="An OpenAPI 3.1 document in JSON; - for standard input")],
    identifier: Annotated[str, typer.Option(help="The audience that tokens for it name, a URI")],
    title: Annotated[str, typer.Option(help="In words")],
    data: Annotated[
        DataClass, typer.Option(help="The class of its data, to be corrected by operation")
    ] = DataClass.INTERNAL,
) -> None:
    """Print a resource made from an OpenAPI document: correct it, then publish it. Its scopes become permissions."""
    with connected() as jamb:
        found = jamb.resources.draft(read_json("DOCUMENT", document), data_class=data)
    print(
        json.dumps(
            {
                "title": title,
                "identifier": identifier,
                "object_name": "",
                "operations": [one.model_dump(mode="json") for one in found.operations],
                "permissions": [one.model_dump(mode="json") for one in found.permissions],
            },
            indent=2,
            ensure_ascii=False,
        )
    )
    unlocked = {name for one in found.permissions for name in one.unlocks}
    closed = [one.name for one in found.operations if one.name not in unlocked]
    note(f"{len(found.operations)} operations, {len(found.permissions)} permissions. Check effect and data of each.")
    if closed:
        note(f"No permission opens {', '.join(closed[:10])}{' …' if len(closed) > 10 else ''} yet.")


@app.command()
def export(resource: ResourceArgument) -> None:
    """Print a resource as a file that `publish` takes."""
    with connected() as jamb:
        found = jamb.resources.read(resource)
    print(json.dumps(as_published(found).model_dump(mode="json"), indent=2, ensure_ascii=False))


@app.command()
def guard(
    resource: ResourceArgument,
    save: Annotated[Path, typer.Option(help="The file for the API's guard: what it needs, with its secret")],
) -> None:
    """Register the client by which a resource's API reports use and hears of what is taken away; save what it needs.

    The API gives the file to `Guard.from_file`. Only you can read it; hand it over to whoever runs the API.
    """
    if save.exists():
        raise BadInput.field("--save", str(save), "a file that is not there yet", "Choose another, or remove it.")
    with connected() as jamb:
        made = set_up_guard(jamb, resource)
    write_private(save, (json.dumps(made.values, indent=2) + "\n").encode())
    out.print(f"{made.client_name} ({made.values['client_id']}) guards {resource}; {save} has what its API needs.")
    for left in made.left:
        note(f"Next step: {left}")
    if made.left:
        raise typer.Exit(EXIT_REFUSED)


@app.command()
def publish(
    resource: Annotated[str, typer.Argument(help="Its short name")],
    file: Annotated[Path, typer.Argument(help="JSON as `export` and `draft` print it; - for standard input")],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only show what would change, and for whom")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Publish a resource, or change one, after showing who is affected."""
    sent = checked(ResourceSent, read_json("FILE", file))
    with connected() as jamb:
        # What is shown is what is changed: who else changes it meanwhile is not overwritten.
        known = any(one.name == resource for one in jamb.resources.list(q=resource[:100]))
        seen = jamb.resources.read(resource).version if known else None
        change = jamb.resources.preview(resource, sent)
        if output is Form.TABLE:
            show_change(change)
        if dry_run:
            emit(change, output, lambda: None)
            return
        if output is Form.TABLE and not change.blocking:
            confirm(f"Publish {resource}?", yes)
        change = jamb.resources.publish(resource, sent, if_match=seen)

    def said() -> None:
        out.print(f"Published {resource}." if not change.waits else f"Published {resource}, in part.", markup=False)
        if change.waits:
            out.print(change.waits, markup=False)

    emit(change, output, said)


@app.command()
def collections(resource: ResourceArgument, output: Output = Form.TABLE) -> None:
    """Show the collections of a resource's objects, as a tree."""
    with connected() as jamb:
        found = jamb.resources.collections(resource)

    def show() -> None:
        if not found.collections:
            out.print(f"{found.resource} has no collections.", markup=False)
            return
        what = plural(found.object_name)
        table(
            ["collection", "title", what, "its own"],
            [
                ["  " * one.path.count("/") + one.path, one.title, str(one.size), ", ".join(one.objects)]
                for one in found.collections
            ],
            right=[what],
        )
        note(f"{found.objects} {what} lie in collections.")

    emit(found, output, show)


@app.command("collect")
def replace_collections(
    resource: ResourceArgument,
    file: Annotated[
        Path, typer.Argument(help="JSON: {collections: [{path, title, objects, rule}]}; - for standard input")
    ],
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Put these collections in place of those a resource has. Guarded APIs act on it within seconds."""
    sent = checked(CollectionsSent, read_json("FILE", file))
    with connected() as jamb:
        seen = jamb.resources.collections(resource)
        before = {one.path: one.objects for one in seen.collections}
        after = {one.path: sorted(one.objects) for one in sent.collections}
        if output is Form.TABLE:
            for label, paths in (
                ("New", after.keys() - before.keys()),
                ("Gone", before.keys() - after.keys()),
                ("Other objects", {path for path in after.keys() & before.keys() if after[path] != before[path]}),
            ):
                if paths:
                    out.print(f"{label}: {', '.join(sorted(paths))}", markup=False)
            confirm(f"Replace the collections of {resource}?", yes)
        saved = jamb.resources.replace_collections(resource, sent.collections, if_match=seen.version)
    said = f"{saved.resource} has {len(saved.collections)} collections with {saved.objects} objects."
    emit(saved, output, lambda: out.print(" ".join(filter(None, (said, saved.waits))), markup=False))


def show_change(change: ResourceChange) -> None:
    heading(f"{change.name}: {'a new resource' if change.new else 'what would change'}")
    for label, names in (
        ("operations added", change.operations_added),
        ("operations gone", change.operations_gone),
        ("operations changed", change.operations_changed),
        ("permissions added", change.permissions_added),
        ("permissions gone", change.permissions_gone),
        ("permissions changed", change.permissions_changed),
    ):
        if names:
            out.print(f"  {label}: {', '.join(names)}", markup=False)
    if change.affected:
        table(
            ["client", "acting", "newly possible", "wider or heavier", "less or gone", "weight"],
            [
                [
                    one.client_name,
                    "as itself" if one.kind == "application" else "for people",
                    ", ".join(one.newly) or "—",
                    ", ".join(one.wider) or "—",
                    ", ".join([*one.narrower, *one.no_longer]) or "—",
                    f"{one.added_weight:+g}",
                ]
                for one in change.affected
            ],
            right=["weight"],
        )
    if not change.new:
        note(f"For {change.untouched} other clients that hold something here nothing changes.")
    for words in change.wider:
        out.print(f"  waits for an approver: {words}", style="yellow", markup=False)
    for one in change.blocking:
        out.print(f"  {one.permission} cannot go: {', '.join(one.held_by[:5])} stands on it", style="red", markup=False)


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
    if found.address:
        out.print(f"answers at {found.address}", markup=False, style="dim")
    if found.uncounted_since and found.uncounted_until:
        between = f"{found.uncounted_since:%Y-%m-%d %H:%M} and {found.uncounted_until:%Y-%m-%d %H:%M} UTC"
        out.print(f"Between {between} its guard could not count all calls.", markup=False)
    heading("\nOperations")
    table(
        ["operation", "what it does", "request", "effect", "data", "weight", "unlocked by, smallest first"],
        [
            [
                one.name,
                one.title,
                f"{one.method} {one.path}",
                one.effect,
                one.data_class,
                str(one.weight),
                ", ".join(one.unlocked_by),
            ]
            for one in found.operations
        ],
        right=["weight"],
    )
    heading("\nPermissions")
    table(
        ["permission", "title", "held as", "opens", "implies", "weight"],
        [
            [
                one.name,
                one.title,
                ", ".join(one.kinds),
                ", ".join(one.opens),
                ", ".join(one.implies) or "—",
                str(one.weight),
            ]
            for one in found.permissions
        ],
        right=["weight"],
    )
    note("Weight: effect (read 1, write 3, control 9) times data (open 1, internal 2, personal 4, restricted 8).")
