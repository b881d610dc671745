"""Look for client secrets where they do not belong, say which still work, and withdraw those."""

from __future__ import annotations

import shlex
import sys
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.output import EXIT_FOUND, Form, Output, YesOption, confirm, emit, in_short, note, out, plural, table
from jamb.cli.credentials.leak_places import Place, hook_file, in_history, in_paths, in_stage
from jamb.client import BadInput, JambError
from jamb.core.credentials.secrets import hint_of
from jamb.wire.credentials.leaks import LeakedSecret

app = typer.Typer(no_args_is_help=True)
SHOWN_PLACES = 4
PathsArgument = Annotated[list[Path] | None, typer.Argument(metavar="PATH", help="Files and folders; here if left out")]


@dataclass(frozen=True, slots=True)
class Found:
    """A secret, every place it stands in, and what the service knows of it (None: it was not asked)."""

    secret: str
    places: list[Place]
    known: LeakedSecret | None = None

    @property
    def verdict(self) -> str:
        if self.known is None:
            return "not looked up"
        if not self.known.known:
            return "not of this directory"
        return "WORKS" if self.known.works else "dead"


@app.command()
def scan(
    paths: PathsArgument = None,
    history: Annotated[bool, typer.Option("--history", help="Every version in the git history there, too")] = False,
    staged: Annotated[bool, typer.Option("--staged", help="Only what the next git commit would add")] = False,
    offline: Annotated[bool, typer.Option("--offline", help="Do not ask the service whether they work")] = False,
    withdraw: Annotated[bool, typer.Option("--withdraw", help="Withdraw those that still work")] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Find client secrets by their prefix and checksum, and ask by digest whether they still work.

    Leaves with code 1 when any is found. The secrets are neither printed nor sent.
    """
    if withdraw and offline:
        raise BadInput.field("--withdraw", "with --offline", "either of them: to withdraw, the service must be asked")
    where, unread = paths or [Path()], list[str]()
    for path in where:
        if not path.exists():
            raise BadInput.field("PATH", str(path), "a file or folder that exists")
    found = _gathered(_places(where, history, staged, unread))
    for said in unread:
        note(f"Not read: {said}")
    if found and not offline:
        found = _looked_up(found, output)
    _tell(found, output)
    if withdraw and found:
        _withdraw(found, yes)
    if found:
        raise typer.Exit(EXIT_FOUND)


@app.command()
def hook(
    path: Annotated[Path, typer.Argument(metavar="PATH", file_okay=False, help="A git repository")] = Path(),
) -> None:
    """Let git refuse a commit that would add a client secret: installs the check before commits."""
    file = hook_file(path)
    if file.exists():
        raise BadInput.field(
            "PATH", str(file), "a repository without a check of its own", f"Add this line to it: {_line()}"
        )
    file.parent.mkdir(parents=True, exist_ok=True)
    file.write_text(f"#!/bin/sh\n# Refuse a commit that would add a client secret.\n{_line()}\n")
    file.chmod(0o755)
    out.print(f"Installed in {file}; a commit with a client secret is refused from now on.", markup=False)


def _line() -> str:
    return f"{shlex.quote(str(Path(sys.argv[0]).resolve()))} leaks scan --staged --offline || exit 1"


def _places(paths: list[Path], history: bool, staged: bool, unread: list[str]) -> Iterable[Place]:
    if staged:
        for path in paths:
            yield from in_stage(path)
        return
    yield from in_paths(paths, unread)
    if history:
        for path in paths:
            yield from in_history(path if path.is_dir() else path.parent)


def _gathered(places: Iterable[Place]) -> list[Found]:
    found: dict[str, list[Place]] = {}
    for place in places:
        found.setdefault(place.secret, []).append(place)
    return [Found(secret, where) for secret, where in found.items()]


def _looked_up(found: list[Found], output: Form) -> list[Found]:
    """Ask the service about each. Where it does not answer, what was found is told all the same before it raises."""
    try:
        with connected() as jamb:
            known = jamb.leaks.look_up([one.secret for one in found])
    except JambError:
        _tell(found, output)
        raise
    return [Found(one.secret, one.places, said) for one, said in zip(found, known, strict=True)]


def _tell(found: list[Found], output: Form) -> None:
    emit([_plain(one) for one in found], output, lambda: _show(found))


def _plain(one: Found) -> dict[str, object]:
    return {
        "hint": hint_of(one.secret),
        "places": [{"where": place.where, "line": place.line} for place in one.places],
        "verdict": one.verdict.lower(),
        "client_id": one.known.client_id if one.known else "",
        "client_name": one.known.client_name if one.known else "",
        "credential_id": str(one.known.credential.id) if one.known and one.known.credential else "",
    }


def _show(found: list[Found]) -> None:
    if not found:
        out.print("No client secret was found.")
        return
    rows: list[list[str | Text]] = []
    for one in found:
        style = "red" if one.verdict == "WORKS" else "dim"
        whose = (one.known.client_name or "of a client you may not see") if one.known and one.known.known else "—"
        where = [f"{place.where}:{place.line}" for place in one.places]
        if len(where) > SHOWN_PLACES:
            where[SHOWN_PLACES - 1 :] = [f"and {len(where) - SHOWN_PLACES + 1} more"]
        rows.append([hint_of(one.secret), Text(one.verdict, style=style), whose, "\n".join(where)])
    table(["secret", "state", "client", "found in"], rows)
    living = sum(one.verdict == "WORKS" for one in found)
    verb = "works" if living == 1 else "work"
    counted = f"{len(found)} {'secret' if len(found) == 1 else plural('secret')} found"
    out.print(f"\n{counted}{f', {living} still {verb}' if living else ''}.", markup=False)
    if living:
        note("Rotate what still uses them, then withdraw: `jamb leaks scan --withdraw`, or `jamb rotate open`.")


def _withdraw(found: list[Found], yes: bool) -> None:
    living = [one for one in found if one.known is not None and one.known.works]
    mine = [one for one in living if one.known is not None and one.known.credential is not None]
    if len(mine) < len(living):
        note(f"{len(living) - len(mine)} still work and belong to clients you may not see: tell a custodian.")
    if not mine:
        return
    names = ", ".join(sorted({one.known.client_name for one in mine if one.known}))
    confirm(f"Withdraw {len(mine)} of {names}? What uses them stops. It cannot be undone.", yes)
    with connected() as jamb:
        for one in mine:
            assert one.known is not None
            assert one.known.credential is not None
            place = one.places[0]
            reason = f"Leaked: found in {place.where}:{place.line}"[:500]
            try:
                jamb.credentials.withdraw(one.known.client_id, one.known.credential.id, reason=reason)
            except JambError as error:
                note(f"Not withdrawn: {hint_of(one.secret)} of {one.known.client_name}: {in_short(error)}")
            else:
                note(f"Withdrawn: {hint_of(one.secret)} of {one.known.client_name}.")
