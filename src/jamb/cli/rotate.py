"""Rotation: what is due, open one or many, close when nobody uses the old one, and a year's forecast."""

from __future__ import annotations

import os
import re
from base64 import b64decode
from pathlib import Path
from typing import Annotated
from uuid import UUID

import typer
from rich.progress import Progress

from jamb.cli.clients import SheetForm
from jamb.cli.connection import connected
from jamb.cli.credentials import pick
from jamb.cli.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    err,
    note,
    out,
    relative,
    table,
)
from jamb.cli.rotation_view import show_board, show_due, show_forecast, show_one, show_opened
from jamb.client import BadInput, Jamb, JambError, NotFound
from jamb.core.credentials import CredentialKind
from jamb.wire.rotations import Due, OpenedRotation, Rotation

app = typer.Typer(help="Replace credentials before they end, without an outage.", no_args_is_help=True)
WithinOption = Annotated[int | None, typer.Option(help="Days until the end; the policy's notice when left out")]
OverlapOption = Annotated[int | None, typer.Option(help="Days for which both are to stand; the policy's when left out")]
DaysOption = Annotated[int | None, typer.Option(help="Days until the new one ends; the policy's default when left out")]
RotationArgument = Annotated[
    str, typer.Argument(metavar="[CREDENTIAL]", help="Its old or new credential, if there is more than one rotation")
]
ReasonOption = Annotated[str, typer.Option(help="Why, for the ledger")]


@app.command("list")
def list_rotations(within: WithinOption = None, output: Output = Form.TABLE) -> None:
    """List what is due, what is in overlap, what is overdue, and what was done lately."""
    with connected() as jamb:
        found = jamb.rotations.board(within=within)
    emit(found, output, lambda: show_board(found))


@app.command("open")
def open_one(
    client: ClientArgument,
    credential: Annotated[str, typer.Argument(metavar="CREDENTIAL", help="Its id, its hint, or its label")],
    days: DaysOption = None,
    overlap: OverlapOption = None,
    save: Annotated[Path | None, typer.Option(help="A folder for what is secret (mode 600)")] = None,
    form: Annotated[SheetForm, typer.Option(help="How to print the connection sheet")] = SheetForm.TEXT,
    output: Output = Form.TABLE,
) -> None:
    """Put another credential like it beside one. Both are valid until the old one is withdrawn."""
    with connected() as jamb:
        found, held = pick(jamb, client, credential)
        target = _target(save, found.name, held.hint) if save is not None else None
        if target is not None and target.exists():
            raise BadInput.field("--save", str(target), "a folder without this file", "Nothing was opened.")
        opened = jamb.rotations.open(found.id, held.id, days=days, overlap_days=overlap)
    if target is not None:
        _keep(target, opened)
        note(f"What is secret is in {target}; it is the only copy.")
        opened = without_secrets(opened)
    emit(opened, output, lambda: show_opened(opened, form))


@app.command("open-all")
def open_all(
    save: Annotated[Path, typer.Option(help="A folder: one file for each new credential (mode 600)")],
    within: WithinOption = None,
    days: DaysOption = None,
    overlap: OverlapOption = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would be opened, and do nothing")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Open a rotation for everything that ends soon. Run again after a stop, it goes on where it was.

    A secret whose file was not written before the stop is issued again: nothing had it.
    """
    with connected() as jamb:
        board = jamb.rotations.board(within=within)
        lost = [one for one in board.rotations if _is_lost(one, save)]
        if dry_run or not (board.due or lost):
            emit(board.due, output, lambda: show_due(board.due))
            return
        show_due(board.due)
        if lost:
            out.print(f"{_many(len(lost), 'secret')} of open rotations without a file here, to be issued again.")
        confirm(f"Open {_many(len(board.due), 'rotation')} and write to {save}?", yes)
        save.mkdir(parents=True, exist_ok=True)
        results: list[tuple[str, str, str]] = []
        with Progress(console=err, transient=True) as progress:
            task = progress.add_task("Opening", total=len(board.due) + len(lost))
            for due in board.due:
                results.append(_opened(jamb, due, save, days, overlap))
                progress.advance(task)
            for rotation in lost:
                results.append(_reissued(jamb, rotation, save))
                progress.advance(task)
    failed = sum(said.startswith("failed") for _, _, said in results)
    table(["client", "credential", "result"], results)
    out.print(f"{_many(len(results) - failed, 'rotation')} opened, {failed} failed.")
    if failed:
        raise typer.Exit(2)


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
def forecast(
    secret_days: Annotated[int | None, typer.Option(help="As if secrets lived this long")] = None,
    key_days: Annotated[int | None, typer.Option(help="As if keys and certificates lived this long")] = None,
    notice_days: Annotated[int | None, typer.Option(help="As if each were opened this long before its end")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Show the rotations of the coming year by week, beside those that another policy would make."""
    wanted = {"secret_default_days": secret_days, "key_default_days": key_days, "notice_days": notice_days}
    changes = {name: value for name, value in wanted.items() if value is not None}
    with connected() as jamb:
        today = list(jamb.rotations.forecast())
        other = list(jamb.rotations.forecast(**changes)) if changes else None
    emit(other if other is not None else today, output, lambda: show_forecast(today, other))


def _one(jamb: Jamb, client: str, credential: str) -> Rotation:
    """Return the open rotation that is meant."""
    found = jamb.clients.find(client)
    wanted = credential.strip()
    mine = [one for one in jamb.rotations.board().rotations if one.client_id == found.id and one.state.open]
    if wanted:
        names = [
            {str(one.id)} | {name for held in (one.old, one.new) for name in _names(held.hint, held.id)} for one in mine
        ]
        mine = [one for one, known in zip(mine, names, strict=True) if wanted in known]
    if len(mine) != 1:
        said = "more than one open rotation" if mine else "no open rotation"
        raise NotFound(f"“{found.name}” has {said}.", next_step="See `jamb rotate list`; name its old credential.")
    return mine[0]


def _many(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"


def _names(hint: str, credential_id: UUID) -> set[str]:
    return {hint, hint.rstrip("…"), str(credential_id)}


def _target(folder: Path, client: str, hint: str) -> Path:
    """Return the file of a rotation's new credential: named by its client and the credential that it follows."""
    stem = re.sub(r"[^a-z0-9]+", "-", f"{client} {hint}".lower()).strip("-")
    return folder / f"{stem}.after"


def _is_lost(one: Rotation, folder: Path) -> bool:
    unseen = one.state.open and one.new.kind is CredentialKind.SECRET and one.new.first_used_at is None
    started = folder.is_dir() and any(folder.iterdir())
    return unseen and started and not _target(folder, one.client_name, one.old.hint).exists()


def _opened(jamb: Jamb, due: Due, folder: Path, days: int | None, overlap: int | None) -> tuple[str, str, str]:
    target = _target(folder, due.client_name, due.credential.hint)
    try:
        made = jamb.rotations.open(due.client_id, due.credential.id, days=days, overlap_days=overlap)
        _keep(target, made)
    except JambError as error:
        return due.client_name, due.credential.hint, f"failed: {error.message}"
    return due.client_name, due.credential.hint, f"followed by {made.rotation.new.hint} in {target.name}"


def _reissued(jamb: Jamb, one: Rotation, folder: Path) -> tuple[str, str, str]:
    target = _target(folder, one.client_name, one.old.hint)
    try:
        made = jamb.rotations.reissue(one.client_id, one.id)
        _keep(target, made)
    except JambError as error:
        return one.client_name, one.old.hint, f"failed: {error.message}"
    return one.client_name, one.old.hint, f"issued again as {made.rotation.new.hint} in {target.name}"


def _keep(target: Path, made: OpenedRotation) -> None:
    """Write what is shown once: whole or not at all, readable by its owner alone."""
    parts = [sheet.forms["env"] for sheet in made.sheets]
    if made.private_key is not None:
        parts = [made.certificate or "", made.private_key, f"passphrase {made.passphrase}"]
    target.parent.mkdir(parents=True, exist_ok=True)
    beside = target.with_name(f".{target.name}.part")
    beside.unlink(missing_ok=True)
    with os.fdopen(os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as opened:
        opened.write("\n\n".join(parts) + "\n")
        opened.flush()
        os.fsync(opened.fileno())
    beside.rename(target)
    if made.pkcs12 is not None:
        with os.fdopen(
            os.open(target.with_suffix(".p12"), os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb"
        ) as opened_:
            opened_.write(b64decode(made.pkcs12))


def without_secrets(made: OpenedRotation) -> OpenedRotation:
    nothing: dict[str, object] = {"secret": None, "sheets": [], "pkcs12": None, "private_key": None, "passphrase": None}
    return made.model_copy(update=nothing)
