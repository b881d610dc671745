"""Right-sizing: what would do for a client at a resource, tried in a dry run, put in force."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ReasonOption, ResourceArgument
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    fields,
    note,
    out,
    relative,
    table,
)
from jamb.wire.consent.rightsizing import DryRun, HeldPermission, Rightsizing

app = typer.Typer(no_args_is_help=True)
DaysOption = Annotated[int | None, typer.Option(help="For how long; left out: as the policy says")]


@app.command()
def show(client: ClientArgument, resource: ResourceArgument, output: Output = Form.TABLE) -> None:
    """Show the smallest grant that fits the use, beside what is held. Changes nothing."""
    with connected() as jamb:
        found = jamb.rightsizing.propose(jamb.clients.find(client).id, resource)
    emit(found, output, lambda: _show(found))


@app.command("dry-run")
def start(
    client: ClientArgument,
    resource: ResourceArgument,
    days: DaysOption = None,
    reason: ReasonOption = "",
    output: Output = Form.TABLE,
) -> None:
    """Start a dry run of the smaller grant: nothing is refused, and what it would have refused is counted."""
    with connected() as jamb:
        done = jamb.rightsizing.start(jamb.clients.find(client).id, resource, days=days, reason=reason)
    emit(done, output, lambda: show_dry_run(done))


@app.command()
def request(
    client: ClientArgument,
    resource: ResourceArgument,
    reason: Annotated[str, typer.Option(help="Why less would do, for whoever decides")],
    days: DaysOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Ask an approver to put the smaller grant in force; until then it is tried in a dry run."""
    with connected() as jamb:
        made = jamb.rightsizing.request(jamb.clients.find(client).id, resource, reason, days=days)

    def said() -> None:
        out.print(
            f"Requested for “{made.client_name}”: less at {made.rightsizes}, {', '.join(made.asks)}.", markup=False
        )
        note(f"An approver says yes or no until {made.due_at:%Y-%m-%d %H:%M} UTC; id {made.id}")

    emit(made, output, said)


@app.command("end")
def drop(client: ClientArgument, resource: ResourceArgument, output: Output = Form.TABLE) -> None:
    """End the dry run; everything stays as it is."""
    with connected() as jamb:
        done = jamb.rightsizing.drop(jamb.clients.find(client).id, resource)
    emit(done, output, lambda: out.print(f"Ended: {done.client_name} keeps {held_words(done.before)}.", markup=False))


@app.command()
def enforce(
    client: ClientArgument,
    resource: ResourceArgument,
    force: Annotated[
        bool, typer.Option("--force", help="Although its time is not over, or something was missed")
    ] = False,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Put what was in a dry run in place of what is held, in one step."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        confirm(f"Replace what “{found.name}” holds at {resource}?", yes)
        done = jamb.rightsizing.enforce(found.id, resource, force=force, reason=reason)
    emit(done, output, lambda: out.print(f"{done.client_name} holds {held_words(done.after)}.", markup=False))


@app.command("list")
def list_dry_runs(output: Output = Form.TABLE) -> None:
    """List what is in a dry run, the oldest first."""
    with connected() as jamb:
        found = jamb.rightsizing.dry_runs()

    def show_all() -> None:
        if not found:
            out.print("Nothing is in a dry run.")
            return
        table(
            ["client", "resource", "instead of", "in a dry run", "missed", "until"],
            [
                [
                    one.client_name,
                    one.resource,
                    held_words(one.before),
                    held_words(one.after),
                    str(one.missed),
                    relative(one.dry_run_until),
                ]
                for one in found
            ],
            right=["missed"],
        )

    emit(found, output, show_all)


def _show(found: Rightsizing) -> None:
    out.print(Text(f"{found.client_name} at {found.resource}", style="bold"))
    one = found.proposal
    if one is None:
        out.print(found.why_not, markup=False)
    else:
        touched = "not reported" if one.touched is None else ", ".join(one.touched) or "none"
        fields(
            [
                ("holds", held_words(one.held)),
                ("would do", held_words(one.after)),
                ("does", ", ".join(one.done) or "nothing"),
                ("touches", touched),
                ("weight", f"{one.weight_before:g}, and {one.weight_after:g} would do"),
                ("no longer", ", ".join(one.no_longer) or "nothing"),
                ("for fewer", ", ".join(one.narrower) or "nothing"),
            ]
        )
        if not one.exact:
            note("A smaller set may exist: the search was stopped.")
    if found.dry_run is not None:
        show_dry_run(found.dry_run)
    elif one is not None:
        note("`jamb rightsize dry-run` counts what it would refuse; `jamb rightsize enforce` puts it in force then,")
        note("or `jamb rightsize request` asks an approver to.")
        note("`jamb charter write CLIENT --rightsized` declares it in a file.")


def show_dry_run(one: DryRun) -> None:
    missed = f"{one.missed} call{'' if one.missed == 1 else 's'}" if one.missed else "nothing"
    after = held_words(one.after)
    out.print(f"In a dry run (over {relative(one.dry_run_until)}): {after}. Missed so far: {missed}.", markup=False)
    for miss in one.misses:
        about = f" {miss.object}" if miss.object else ""
        out.print(f"  {miss.calls:>6}  {miss.operation}{about}, last {relative(miss.last_at)}", markup=False)


def held_words(held: Sequence[HeldPermission]) -> str:
    return ", ".join(f"{one.permission} ({one.reach.words})" for one in held) or "nothing"
