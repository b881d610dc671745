"""Rotation in bulk: open everything that expires soon, go on after a stop, and undo."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Annotated

import typer
from rich.progress import Progress

from jamb.cli.base.connection import connected
from jamb.cli.base.options import OwnersOption
from jamb.cli.base.output import Form, Output, YesOption, confirm, emit, err, in_short, note, out, table
from jamb.cli.credentials.rotation_files import Entry, entries_of, entry_for, keep, list_entries
from jamb.cli.credentials.rotation_view import many, show_due
from jamb.client import Jamb, JambError
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.errors import AlreadyOpened, BadInput, DoneBefore, Forbidden, NeedsAgreement
from jamb.wire.base.problems import error_of
from jamb.wire.credentials.rotations import MOST_AT_ONCE, OpenedRotation, RotationWanted

# So many are opened by one request, and so many requests are under way at the same time.
TOGETHER = MOST_AT_ONCE
AT_ONCE = 2
# A plan or result of more lines is not read, and takes seconds to draw.
MOST_SHOWN = 100
WithinOption = Annotated[int | None, typer.Option(help="Days until the end; the policy's warning period when left out")]
OverlapOption = Annotated[int | None, typer.Option(help="Days for which both are to stand; the policy's when left out")]
DaysOption = Annotated[
    int | None, typer.Option(help="Lifetime of the new one in days; the policy's default when left out")
]
ReasonOption = Annotated[str, typer.Option(help="Why, for the ledger")]


def open_all(
    save: Annotated[Path | None, typer.Option(help="A folder: one file for each new credential (mode 600)")] = None,
    owners: OwnersOption = False,
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
    if (save is None) is not owners and not dry_run:
        sent = "neither --save nor --to-owners" if save is None else "both --save and --to-owners"
        raise BadInput.field("--save", sent, "a folder for what is secret, or --to-owners so that you never see it")
    with connected() as jamb:
        due = list(jamb.rotations.due(within=within))
        left = _left(jamb, save) if save is not None else []
        if dry_run or not (due or left):
            emit(due, output, lambda: show_due(due))
            return
        if output is Form.TABLE:
            show_due(due[:MOST_SHOWN])
            if len(due) > MOST_SHOWN:
                note(f"And {len(due) - MOST_SHOWN:,} more; --dry-run lists all.")
        if left:
            note(f"{many(len(left), 'rotation')} of {save} without a file yet.")
        way = f"write to {save}" if save is not None else "mail a link to the owners of each"
        confirm(f"Open {many(len(due), 'rotation')} and {way}?", yes)
        again = {entry.credential_id for entry in left}
        opening = _Opening(jamb, save, days, overlap)
        results = _in_parts(opening, left, [entry_for(one) for one in due if one.credential.id not in again])
    failed = sum(one.failed for one in results)
    emit([asdict(one) for one in results], output, lambda: _show(results))
    note(f"{many(len(results) - failed, 'rotation')} opened, {failed} failed.")
    if failed:
        raise typer.Exit(2)


def _show(results: Sequence[_Result]) -> None:
    """Show what failed, all of it, and the first of what was opened."""
    failed, opened = [one for one in results if one.failed], [one for one in results if not one.failed]
    shown = [*failed, *opened[:MOST_SHOWN]]
    table(["client", "credential", "result"], [(one.client, one.credential, one.result) for one in shown])
    if len(results) > len(shown):
        note(f"And {len(results) - len(shown):,} more that were opened; -o json tells all.")


def _in_parts(opening: _Opening, left: Sequence[Entry], fresh: Sequence[Entry]) -> list[_Result]:
    """Open many by a few requests at the same time, telling how far it is."""
    results: list[_Result] = []
    parts = [(some, known) for known, all_of in ((True, left), (False, fresh)) for some in _together(all_of)]
    with Progress(console=err, transient=True) as progress, ThreadPoolExecutor(AT_ONCE) as pool:
        task = progress.add_task("Opening", total=len(left) + len(fresh))
        try:
            for done in pool.map(lambda part: opening.carry_out(part[0], listed=part[1]), parts):
                results += done
                progress.advance(task, len(done))
        except BaseException:
            # Whoever interrupts does not wait for the rest.
            pool.shutdown(wait=False, cancel_futures=True)
            raise
    return results


def _together(entries: Sequence[Entry]) -> list[Sequence[Entry]]:
    return [entries[at : at + TOGETHER] for at in range(0, len(entries), TOGETHER)]


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
    unopened = any(entry.rotation_id not in rotations for entry in without)
    waiting = {one.credential.id for one in jamb.rotations.due(within=3650)} if unopened else set()
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


@dataclass(frozen=True, slots=True)
class _Result:
    client: str
    client_id: str
    credential: str
    credential_id: str
    rotation_id: str
    result: str
    failed: bool


@dataclass(frozen=True, slots=True)
class _Opening:
    """How rotations are opened. `folder`: where what is secret is written; None: it is mailed to the owners."""

    jamb: Jamb
    folder: Path | None
    days: int | None
    overlap: int | None

    def carry_out(self, entries: Sequence[Entry], *, listed: bool) -> list[_Result]:
        """Open some at once; alone, what was opened before, or needs another person's yes."""
        if self.folder is not None and not listed:
            list_entries(self.folder, entries)
        wanted = [
            RotationWanted(client=one.client_id, credential=one.credential_id, id=one.rotation_id) for one in entries
        ]
        mailed = self.folder is None
        try:
            answer = self.jamb.rotations.open_all(wanted, days=self.days, overlap_days=self.overlap, to_owners=mailed)
        except (Forbidden, DoneBefore):
            # Whose role counts for some clients only may open theirs; what was done may have lost its answer.
            return [self._alone(entry) for entry in entries]
        except JambError as error:
            return [_result(entry, in_short(error), failed=True) for entry in entries]
        opened = {one.rotation.id: one for one in answer.opened}
        failed = {one.id: error_of(one.problem) for one in answer.failed}
        results = []
        for entry in entries:
            why = failed.get(entry.rotation_id)
            if isinstance(why, AlreadyOpened | NeedsAgreement):
                results.append(self._alone(entry))
            elif why is not None:
                results.append(_result(entry, in_short(why), failed=True))
            else:
                results.append(self._kept(entry, opened[entry.rotation_id], "followed by"))
        return results

    def _alone(self, entry: Entry) -> _Result:
        try:
            try:
                opened = self.jamb.rotations.open(
                    entry.client_id,
                    entry.credential_id,
                    days=self.days,
                    overlap_days=self.overlap,
                    rotation_id=entry.rotation_id,
                    to_owners=self.folder is None,
                )
                verb = "followed by"
            except AlreadyOpened:
                if self.folder is None:
                    return _result(entry, "opened already; the link is on its way to the owners")
                # By a run that was stopped before it wrote the answer down.
                opened, verb = self.jamb.rotations.reissue(entry.client_id, entry.rotation_id), "issued again as"
        except JambError as error:
            return _result(entry, in_short(error), failed=True)
        return self._kept(entry, opened, verb)

    def _kept(self, entry: Entry, opened: OpenedRotation, verb: str) -> _Result:
        said = f"{verb} {opened.rotation.new.hint}"
        if opened.delivered_to:
            said += f", mailed to {', '.join(opened.delivered_to)}"
        elif self.folder is not None and keep(entry.target(self.folder), opened):
            said += f" in {entry.target(self.folder).name}"
        return _result(entry, said)


def _result(entry: Entry, said: str, *, failed: bool = False) -> _Result:
    return _Result(
        client=entry.client_name,
        client_id=entry.client_id,
        credential=entry.hint,
        credential_id=str(entry.credential_id),
        rotation_id=str(entry.rotation_id),
        result=f"failed: {said}" if failed else said,
        failed=failed,
    )
