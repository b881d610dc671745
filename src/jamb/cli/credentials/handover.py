"""Handover links: make, list, take back; and open one that was received."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant
from jamb.cli.base.options import OwnersOption
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    err,
    fields,
    note,
    out,
    relative,
    table,
)
from jamb.cli.credentials import sealing
from jamb.cli.credentials.credentials import DaysOption, LabelOption, pick
from jamb.cli.credentials.handed_over import free_folder, keep_handed_over
from jamb.client import HandoverLink
from jamb.core.credentials.handover import DEFAULT_HOURS, Deliver, HandoverState
from jamb.core.credentials.kinds import CredentialKind
from jamb.wire.credentials.handovers import Handover, MadeHandover

app = typer.Typer(no_args_is_help=True)
app.command()(sealing.seal)
app.command()(sealing.unseal)
app.command()(sealing.key)
STYLE = {HandoverState.WAITING: "yellow", HandoverState.OPENED: "green", HandoverState.LOCKED: "red"}


@app.command()
def make(
    client: ClientArgument,
    certificate: Annotated[
        bool, typer.Option("--certificate", help="A certificate with its key, not a secret")
    ] = False,
    hours: Annotated[int, typer.Option(help="Until the link runs out")] = DEFAULT_HOURS,
    passphrase: Annotated[bool, typer.Option("--passphrase", help="Ask for one to be told beside the link")] = False,
    words: Annotated[str, typer.Option("--note", help="For whoever opens it")] = "",
    owners: OwnersOption = False,
    days: DaysOption = None,
    label: LabelOption = "",
    instead_of: Annotated[
        str | None, typer.Option(help="Withdraw this lost credential in the same step: its id, hint or label")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Make a credential that nobody sees before whoever opens the link; print the link, or mail it to the owners."""
    said = typer.prompt("Passphrase", hide_input=True, confirmation_prompt=True, err=True) if passphrase else ""
    with connected() as jamb:
        lost = pick(jamb, client, instead_of)[1].id if instead_of is not None else None
        kind = CredentialKind.CERTIFICATE if certificate else CredentialKind.SECRET
        made = jamb.handovers.make(
            jamb.clients.find(client).id,
            kind=kind,
            days=days,
            label=label,
            instead_of=lost,
            hours=hours,
            passphrase=said,
            note=words,
            deliver=Deliver.OWNERS if owners else Deliver.LINK,
        )
    emit(made, output, lambda: _show_made(made))
    note("Whoever has the link sees the credential, once. `jamb handover list` tells when it was opened.")
    if passphrase:
        note("Tell the passphrase by another way than the link.")


@app.command("list")
def list_handovers(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """List a client's links: whether they were opened, when and from where."""
    with connected() as jamb:
        found = jamb.handovers.list(jamb.clients.find(client).id)
    emit(found, output, lambda: _show(found))


@app.command()
def withdraw(
    client: ClientArgument,
    link: Annotated[str, typer.Argument(metavar="ID", help="Its id, how that begins, or the hint of its credential")],
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Take a link back before it is opened. Its credential stands until it is withdrawn, too."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        links = jamb.handovers.list(found.id)
        see = f"jamb handover list {found.id}"
        held = meant(links, link, lambda one: {one.hint}, noun="handover link", of=found.name, see=see)
        confirm(f"Take back the link to {held.hint} of “{found.name}”?", yes)
        ended = jamb.handovers.withdraw(found.id, held.id)
    emit(ended, output, lambda: out.print(f"Taken back: nobody can open it. {ended.hint} stands.", markup=False))


@app.command("open")
def open_link(
    save: Annotated[Path, typer.Option(help="A folder that does not have them yet: sheet, or certificate and key")],
    yes: YesOption = False,
) -> None:
    """Open a link that you were given, and keep what it carries. The link is read from standard input.

    No sign-in is needed. The link works once: what it shows is on the disk before this ends.
    """
    link = HandoverLink(typer.prompt("Link", hide_input=True, err=True) if _at_terminal() else _line())
    waiting = link.look()
    err.print(
        f"{waiting.made_by} of {waiting.directory_name} hands over a credential of “{waiting.client_name}”.",
        markup=False,
    )
    if waiting.note:
        err.print(f"  {waiting.note}", markup=False)
    folder = free_folder(save)
    said = ""
    if waiting.has_passphrase:
        said = typer.prompt("Passphrase", hide_input=True, err=True) if _at_terminal() else _line()
    if waiting.state is HandoverState.WAITING:
        confirm("Open it? It can be opened once.", yes)
    names = keep_handed_over(link.open(said), folder)
    out.print(f"In {folder}: {names}. The link is used up.", markup=False)


def _at_terminal() -> bool:
    return typer.get_text_stream("stdin").isatty()


def _line() -> str:
    return typer.get_text_stream("stdin").readline().strip()


def _show_made(made: MadeHandover) -> None:
    one = made.handover
    fields(
        [
            ("credential", f"{made.credential.hint}, expires {relative(made.credential.expires_at)}"),
            ("link runs out", relative(one.expires_at)),
            ("passphrase", "asked for" if one.has_passphrase else "none"),
            ("id", str(one.id)),
        ]
    )
    if made.delivered_to:
        out.print(f"The link is in the next mail of {', '.join(made.delivered_to)}; nobody else has it.", markup=False)
        return
    # On a line of its own, whole: it is copied.
    out.print(made.link, markup=False, soft_wrap=True)


def _show(found: list[Handover]) -> None:
    if not found:
        out.print("No handover link was made.")
        return
    rows: list[list[str | Text]] = []
    for one in found:
        told = f"{relative(one.opened_at)} from {one.opened_from or 'an unknown address'}" if one.opened_at else "—"
        warned = Text(f"{one.late_tries}, last from {one.late_from}", style="red") if one.late_tries else Text("none")
        state = Text(one.state, style=STYLE.get(one.state, "dim"))
        rows.append([one.hint, state, f"{relative(one.made_at)} by {one.made_by}", told, warned, str(one.id)])
    table(["credential", "state", "made", "opened", "tried later", "id"], rows)
    if any(one.late_tries for one in found):
        note(
            "A link that was tried after it was opened is in two hands: ask who opened it, or withdraw the credential."
        )
