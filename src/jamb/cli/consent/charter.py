"""Charters: a registration in a file, compared with what is there, and adopted in any directory."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ReasonOption, read_text
from jamb.cli.base.output import (
    EXIT_FOUND,
    EXIT_REFUSED,
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    heading,
    note,
    out,
    table,
)
from jamb.client import BadInput
from jamb.client.consent.adopting import Adopted
from jamb.client.consent.adopting import adopt as run_adoption
from jamb.core.permissions import AccessKind
from jamb.wire.consent.charter_file import read_charter
from jamb.wire.consent.charters import CharterComparison, CharterEffect, CharterStep

app = typer.Typer(no_args_is_help=True)
FileArgument = Annotated[Path, typer.Argument(metavar="FILE", help="A charter; - for standard input")]
_GIVES = (("newly", "newly possible", "yellow"), ("wider", "for more objects", "yellow"))
_TAKES = (("narrower", "for fewer objects", "green"), ("no_longer", "no longer possible", "green"))


@app.command()
def write(
    client: ClientArgument,
    rightsized: Annotated[
        bool, typer.Option("--rightsized", help="With the smallest grants that fit its use, instead of what it holds")
    ] = False,
    save: Annotated[Path | None, typer.Option(help="A file to write, instead of standard output")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Write a client down as a charter: what it is, asks, reaches, and how it proves itself."""
    with connected() as jamb:
        found = jamb.charters.write(jamb.clients.find(client).id, rightsized=rightsized)
    if save is not None:
        if save.exists():
            raise BadInput.field("--save", str(save), "a file that is not there yet", "Compare with it instead.")
        save.write_text(found.file, "utf-8")
    emit(found, output, lambda: print(found.file, end="") if save is None else out.print(f"Written to {save}."))
    if rightsized and not found.rightsized:
        note("Nothing smaller is known to do: it declares what is held.")


@app.command()
def compare(file: FileArgument, output: Output = Form.TABLE) -> None:
    """Show what differs between a charter and the client of its name. Leaves with code 1 if anything does."""
    charter = read_charter(read_text("FILE", file))
    with connected() as jamb:
        found = jamb.charters.compare(charter)
    emit(found, output, lambda: _show(found))
    if found.steps:
        raise typer.Exit(EXIT_FOUND)


@app.command()
def adopt(
    file: FileArgument,
    owner: Annotated[
        list[str] | None, typer.Option(help="Login of an owner, if it is registered by this; may be given again")
    ] = None,
    reason: ReasonOption = "",
    ask_only: Annotated[bool, typer.Option("--ask-only", help="Do not consent, even if you may")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Have the client of a charter's name be as it says, after showing what that changes.

    Registers, asks, consents where you may (or asks the approvers), bounds, and takes away what is not declared.
    Issues no credential. Run again, it does what still differs. Leaves with code 3 when others must do something.
    """
    if str(file) == "-" and not yes:
        raise BadInput.field("FILE", "-", "a file, or --yes: standard input cannot also be asked")
    charter = read_charter(read_text("FILE", file))
    with connected() as jamb:
        found = jamb.charters.compare(charter)
        if found.steps:
            if output is Form.TABLE:
                _show(found)
            confirm(f"Have “{found.client_name}” be so?", yes)
        done = run_adoption(jamb, charter, owners=owner or [], reason=reason, consent=not ask_only)
    emit(asdict(done), output, lambda: _say(done))
    for one in done.left:
        note(f"Next step: {one}")
    if done.left:
        raise typer.Exit(EXIT_REFUSED)


def _show(found: CharterComparison) -> None:
    if not found.steps:
        out.print(f"“{found.client_name}” is as the charter says.", markup=False)
        return
    here = "is not registered here" if found.client_id is None else "differs from the charter"
    heading(f"“{found.client_name}” {here}")
    rows: dict[tuple[str, AccessKind | None], list[CharterStep]] = {}
    for one in found.steps:
        rows.setdefault((one.what if one.access else f"{one.what} {one.here}", one.access), []).append(one)
    table(["what", "here", "declared"], [_row(steps) for steps in rows.values()])
    for effect in found.effects:
        out.print("")
        how = "as itself" if effect.kind is AccessKind.APPLICATION else "for people"
        out.print(Text(f"{effect.resource}, {how}", style="bold"))
        _show_effect(effect)


def _row(steps: Sequence[CharterStep]) -> list[str]:
    """Return all that differs about one permission as a line."""
    declared = dict.fromkeys(one.declared for one in steps)
    kind = ", for people" if steps[0].access is AccessKind.DELEGATED else ""
    return [steps[0].what + kind, ", ".join(one.here for one in steps), ", ".join(declared)]


def _show_effect(effect: CharterEffect) -> None:
    for member, words, style in (*_GIVES, *_TAKES):
        names = getattr(effect, member)
        if names:
            out.print(Text(f"{words}: ", style=style).append(", ".join(names), style="default"))


def _say(done: Adopted) -> None:
    nothing = "nothing was changed" if done.differs else "all was so already, nothing was changed"
    did = "; ".join(done.did) or nothing
    out.print(f"“{done.client_name}” ({done.client_id}): {did}.", markup=False)
