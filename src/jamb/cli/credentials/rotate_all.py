"""Rotation in bulk: open everything that expires soon, go on after a stop, and undo."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Annotated

import typer
from rich.progress import Progress

from jamb.cli.base.connection import connected
from jamb.cli.base.output import Form, Output, YesOption, confirm, emit, err, out, table
from jamb.cli.credentials.rotation_files import Entry, entries_of, keep, list_entry
from jamb.cli.credentials.rotation_view import many, show_due
from jamb.client import Jamb, JambError
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.errors import AlreadyOpened
from jamb.wire.credentials.rotations import Due

# Requests under way at the same time.
AT_ONCE = 4
WithinOption = Annotated[int | None, typer.Option(help="Days until the end; the policy's warning period when left out")]
OverlapOption = Annotated[int | None, typer.Option(help="Days for which both are to stand; the policy's when left out")]
DaysOption = Annotated[
    int | None, typer.Option(help="Lifetime of the new one in days; the policy's default when left out")
]
ReasonOption = Annotated[str, typer.Option(help="Why, for the ledger")]


def open_all(
    save: Annotated[Path, typer.Option(help="A folder: one file for each new credential (mode 600)")],
    within: WithinOption = None,
    days: DaysOption = None,
    overlap: OverlapOption = None,
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would be opened, and do nothing")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Open a rotation for everything that expires soon. Run again after a stop, it goes on where it was.

    A secret of this folder whose file was not written before the stop is issued again: nothing had it.
    """
    with connected() as jamb:
        due = list(jamb.rotations.due(within=within))
        left = _left(jamb, save)
        if dry_run or not (due or left):
            emit(due, output, lambda: show_due(due))
            return
        show_due(due)
        if left:
            out.print(f"{many(len(left), 'rotation')} of {save} without a file yet.", markup=False)
        confirm(f"Open {many(len(due), 'rotation')} and write to {save}?", yes)
        results: list[tuple[str, str, str]] = []
        with Progress(console=err, transient=True) as progress:
            again = {entry.credential_id for entry in left}
            wanted = [*left, *(one for one in due if one.credential.id not in again)]
            task = progress.add_task("Opening", total=len(wanted))

            def carry_out(one: Entry | Due) -> tuple[str, str, str]:
                entry = one if isinstance(one, Entry) else list_entry(save, one)
                return _carry_out(jamb, entry, save, days, overlap)

            with ThreadPoolExecutor(AT_ONCE) as pool:
                try:
                    for result in pool.map(carry_out, wanted):
                        results.append(result)
                        progress.advance(task)
                except BaseException:
                    # Whoever interrupts does not wait for the rest.
                    pool.shutdown(wait=False, cancel_futures=True)
                    raise
    failed = sum(said.startswith("failed") for _, _, said in results)
    table(["client", "credential", "result"], results)
    out.print(f"{many(len(results) - failed, 'rotation')} opened, {failed} failed.")
    if failed:
        raise typer.Exit(2)


def undo_all(
    save: Annotated[Path, typer.Option(exists=True, file_okay=False, help="The folder that `open-all` wrote to")],
    reason: ReasonOption = "",
    yes: YesOption = False,
) -> None:
    """Abandon the rotations of a folder whose new credential was not used yet; their files are removed."""
    with connected() as jamb:
        found = {one.id: one for one in jamb.rotations.list()}
        mine = [
            entry
            for entry in entries_of(save)
            if (one := found.get(entry.rotation_id)) and one.new.first_used_at is None
        ]
        confirm(f"Withdraw the new credentials of {many(len(mine), 'rotation')} and remove their files?", yes)
        for entry in mine:
            jamb.rotations.abandon(entry.client_id, entry.rotation_id, reason=reason or "Undone")
            for ending in (".after", ".p12", ".passphrase"):
                entry.target(save).with_suffix(ending).unlink(missing_ok=True)
    out.print(f"{many(len(mine), 'rotation')} undone; the old credentials stand as before.")


def _left(jamb: Jamb, folder: Path) -> list[Entry]:
    """Return what a run that was stopped left of a folder: opened without its file, or written down and not opened."""
    without = [one for one in entries_of(folder) if not one.target(folder).exists()]
    if not without:
        return []
    rotations = {one.id: one for one in jamb.rotations.list()}
    waiting = {one.credential.id for one in jamb.rotations.due(within=3650)}
    shown_once = {CredentialKind.SECRET, CredentialKind.CERTIFICATE}
    return [
        entry
        for entry in without
        if (
            (one := rotations.get(entry.rotation_id)) is not None
            and one.new.first_used_at is None
            and one.new.kind in shown_once
        )
        or (one is None and entry.credential_id in waiting)
    ]


def _carry_out(jamb: Jamb, entry: Entry, folder: Path, days: int | None, overlap: int | None) -> tuple[str, str, str]:
    try:
        try:
            opened = jamb.rotations.open(
                entry.client_id, entry.credential_id, days=days, overlap_days=overlap, rotation_id=entry.rotation_id
            )
            verb = "followed by"
        except AlreadyOpened:
            # By a run that was stopped before it wrote the answer down.
            opened, verb = jamb.rotations.reissue(entry.client_id, entry.rotation_id), "issued again as"
        said = f"{verb} {opened.rotation.new.hint}"
        if keep(entry.target(folder), opened):
            said += f" in {entry.target(folder).name}"
    except JambError as error:
        said = f"failed: {error.message}"
    return entry.client_name, entry.hint, said
