"""Rotation: what is due, open one or many, close when nobody uses the old one, and a year's forecast."""

from __future__ import annotations

import json
from datetime import timedelta
from pathlib import Path
from typing import Annotated
from uuid import UUID

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import OwnersOption
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    note,
    out,
    relative,
)
from jamb.cli.clients.sheets import SheetForm
from jamb.cli.credentials import rotate_all
from jamb.cli.credentials.credentials import pick
from jamb.cli.credentials.rotate_all import DaysOption, OverlapOption, ReasonOption, WithinOption
from jamb.cli.credentials.rotation_files import keep, target_of
from jamb.cli.credentials.rotation_view import show_due, show_forecast, show_one, show_opened, show_rotations
from jamb.client import BadInput, Jamb, NotFound, keep_fresh
from jamb.client.credentials.keeping_fresh import Did
from jamb.wire.clients.clients import Client
from jamb.wire.credentials.credentials import Credential
from jamb.wire.credentials.rotations import Rotation

app = typer.Typer(no_args_is_help=True)
RotationArgument = Annotated[
    str, typer.Argument(metavar="[CREDENTIAL]", help="Its old or new credential, if there is more than one rotation")
]


app.command("open-all")(rotate_all.open_all)
app.command("undo-all")(rotate_all.undo_all)


@app.command()
def due(within: WithinOption = None, output: Output = Form.TABLE) -> None:
    """List what expires soon and nothing follows yet, with the dates of its rotation if it were opened now."""
    with connected() as jamb:
        found = list(jamb.rotations.due(within=within))
    emit(found, output, lambda: show_due(found))


@app.command("list")
def list_rotations(
    ended: Annotated[bool, typer.Option("--ended", help="Those ended in the last thirty days instead")] = False,
    output: Output = Form.TABLE,
) -> None:
    """List the rotations under way: overdue, ready to be closed, in overlap."""
    with connected() as jamb:
        found = list(jamb.rotations.list(ended=ended))
    emit(found, output, lambda: show_rotations(found))


@app.command("open")
def open_one(
    client: ClientArgument,
    credential: Annotated[
        str | None,
        typer.Argument(metavar="[CREDENTIAL]", help="Its id, hint or label; left out: the only one that works"),
    ] = None,
    days: DaysOption = None,
    overlap: OverlapOption = None,
    owners: OwnersOption = False,
    save: Annotated[Path | None, typer.Option(help="A folder for what is secret (mode 600)")] = None,
    form: Annotated[SheetForm, typer.Option(help="How to print the connection sheet")] = SheetForm.TEXT,
    output: Output = Form.TABLE,
) -> None:
    """Put another credential like it beside one. Both are valid until the old one is withdrawn."""
    with connected() as jamb:
        found, held = pick(jamb, client, credential) if credential is not None else _only_one(jamb, client)
        target = target_of(save, found.name, held.hint) if save is not None else None
        if target is not None and target.exists():
            raise BadInput.field("--save", str(target), "a folder without this file", "Nothing was opened.")
        opened = jamb.rotations.open(found.id, held.id, days=days, overlap_days=overlap, to_owners=owners)
    if target is not None:
        if keep(target, opened):
            note(f"What is secret is in {target}; it is the only copy.")
        opened = opened.model_copy(update={"issued": None, "made": None})
    emit(opened, output, lambda: show_opened(opened, form))


def _only_one(jamb: Jamb, client: str) -> tuple[Client, Credential]:
    found = jamb.clients.find(client)
    working = [one for one in jamb.credentials.list(found.id) if one.state.works]
    if len(working) == 1:
        return found, working[0]
    hints = ", ".join(one.hint for one in working) or "it has none that works"
    raise BadInput.field("CREDENTIAL", "nothing", f"which of its credentials: {hints}")


@app.command()
def show(client: ClientArgument, credential: RotationArgument = "", output: Output = Form.TABLE) -> None:
    """Show how far a rotation is, and who still uses the old credential."""
    with connected() as jamb:
        found = _one(jamb, client, credential)
    emit(found, output, lambda: show_one(found))


@app.command()
def extend(
    client: ClientArgument,
    days: Annotated[int, typer.Option(help="Days from now until the overlap ends")],
    credential: RotationArgument = "",
    output: Output = Form.TABLE,
) -> None:
    """Let the overlap last longer."""
    with connected() as jamb:
        found = _one(jamb, client, credential)
        changed = jamb.rotations.extend(found.client_id, found.id, days)
    emit(changed, output, lambda: show_one(changed))


@app.command()
def close(
    client: ClientArgument,
    credential: RotationArgument = "",
    force: Annotated[bool, typer.Option("--force", help="Though the old one is in use; what uses it stops")] = False,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Withdraw the old credential. Refused while it is in use, naming by whom and when."""
    with connected() as jamb:
        found = _one(jamb, client, credential)
        if force:
            used = f"It was used {relative(found.used_since)}: whatever uses it stops. " if found.used_since else ""
            confirm(f"{used}Withdraw {found.old.hint} of “{found.client_name}”? It cannot be undone.", yes)
        closed = jamb.rotations.close(found.client_id, found.id, forced=force, reason=reason)
    emit(
        closed,
        output,
        lambda: out.print(f"Done: {closed.old.hint} is withdrawn, {closed.new.hint} stays.", markup=False),
    )


@app.command()
def abandon(
    client: ClientArgument,
    credential: RotationArgument = "",
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Withdraw the new credential: the old one stands as before."""
    with connected() as jamb:
        found = _one(jamb, client, credential)
        used = relative(found.new.last_used_at)
        confirm(f"Withdraw the new {found.new.hint} of “{found.client_name}” (last used {used})?", yes)
        given_up = jamb.rotations.abandon(found.client_id, found.id, reason=reason)
    emit(given_up, output, lambda: out.print(f"Abandoned: {given_up.old.hint} stands as before.", markup=False))


@app.command()
def reissue(
    client: ClientArgument,
    credential: RotationArgument = "",
    form: Annotated[SheetForm, typer.Option(help="How to print the connection sheet")] = SheetForm.TEXT,
    output: Output = Form.TABLE,
) -> None:
    """Issue the new secret of a rotation again: it was lost before anything used it."""
    with connected() as jamb:
        found = _one(jamb, client, credential)
        opened = jamb.rotations.reissue(found.client_id, found.id)
    emit(opened, output, lambda: show_opened(opened, form))


@app.command()
def own(
    issuer: Annotated[str, typer.Argument(help="The issuer, from the connection sheet")],
    client_id: Annotated[str, typer.Argument(help="The client id, from the connection sheet")],
    file: Annotated[
        Path,
        typer.Option("--file", exists=True, dir_okay=False, help="The file with the secret, or a private key in PEM"),
    ],
    passphrase_file: Annotated[
        Path | None, typer.Option(exists=True, dir_okay=False, help="What the private key is under")
    ] = None,
    before: Annotated[int, typer.Option(help="Rotate when it ends within this many days")] = 14,
    output: Output = Form.TABLE,
) -> None:
    """For the client itself, once a day: rotate what is in a file when it is due, and close when the old one is quiet.

    Needs no sign-in: the secret or key in the file proves the client. The file is replaced whole.
    """
    passphrase = passphrase_file.read_text().strip() if passphrase_file is not None else ""
    kept = keep_fresh(issuer.rstrip("/"), client_id, file, passphrase=passphrase, before=timedelta(days=before))
    said = {
        Did.NOTHING: f"Nothing to do: it expires {relative(kept.ends, 'never')}.",
        Did.ROTATED: f"Rotated: {file} holds the new one, which expires {relative(kept.ends, 'never')}.",
        Did.WAITED: "The new one is in place; the old one is not quiet yet.",
        Did.CLOSED: "Done: the old one is withdrawn.",
    }[kept.did]
    if output is Form.JSON:
        print(json.dumps({"did": kept.did.value, "expires": kept.ends.isoformat() if kept.ends else None}))
        return
    out.print(said, markup=False)


@app.command()
def forecast(
    secret_days: Annotated[int | None, typer.Option(help="As if secrets lived this long")] = None,
    key_days: Annotated[int | None, typer.Option(help="As if keys and certificates lived this long")] = None,
    warn_days: Annotated[int | None, typer.Option(help="As if each were opened this long before its end")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Show the rotations of the coming year by week, beside those that another policy would make."""
    wanted = {"secret_default_days": secret_days, "key_default_days": key_days, "warn_days": warn_days}
    changes = {name: value for name, value in wanted.items() if value is not None}
    with connected() as jamb:
        today = list(jamb.rotations.forecast())
        other = list(jamb.rotations.forecast(**changes)) if changes else None
    emit(other if other is not None else today, output, lambda: show_forecast(today, other))


def _one(jamb: Jamb, client: str, credential: str) -> Rotation:
    """Return the open rotation that is meant."""
    found = jamb.clients.find(client)
    wanted = credential.strip()
    mine = list(jamb.rotations.list(client=found.id))
    if wanted:
        names = [
            {str(one.id)} | {name for held in (one.old, one.new) for name in _names(held.hint, held.id)} for one in mine
        ]
        mine = [one for one, known in zip(mine, names, strict=True) if wanted in known]
    if len(mine) != 1:
        said = "more than one open rotation" if mine else "no open rotation"
        raise NotFound(f"“{found.name}” has {said}.", next_step="See `jamb rotate list`; name its old credential.")
    return mine[0]


def _names(hint: str, credential_id: UUID) -> set[str]:
    return {hint, hint.rstrip("…"), str(credential_id)}
