"""How rotations are shown: the board of what is due and under way, one rotation, a year's forecast."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import timedelta

from rich.text import Text

from jamb.cli.base.output import heading, note, out, relative, table
from jamb.cli.clients.sheets import SheetForm, print_sheets
from jamb.core.rotation import RotationState
from jamb.wire.credentials.rotations import Due, OpenedRotation, Rotation, Week

_STYLE = {
    RotationState.OPENED: "yellow",
    RotationState.PROVEN: "cyan",
    RotationState.QUIET: "green",
    RotationState.OVERDUE: "red",
    RotationState.CLOSED: "dim",
    RotationState.ABANDONED: "dim",
}
_WORD = {
    RotationState.OPENED: "new one not seen yet",
    RotationState.PROVEN: "both in overlap",
    RotationState.QUIET: "quiet: can be closed",
    RotationState.OVERDUE: "overdue",
    RotationState.CLOSED: "done",
    RotationState.ABANDONED: "abandoned",
}


def show_opened(opened: OpenedRotation, form: SheetForm) -> None:
    show_one(opened.rotation)
    if opened.delivered_to:
        note(f"A link to what is new is in the next mail of {', '.join(opened.delivered_to)}; nobody else has it.")
    if opened.issued is not None:
        out.print()
        print_sheets(opened.issued.sheets, form)
        note("Copy the secret now: it is never shown again.")
    if opened.made is not None:
        made = opened.made
        out.print(f"\n{made.certificate}{made.private_key}passphrase  {made.passphrase}", markup=False)
        note("Copy key and passphrase now: they are never shown again.")


def show_one(one: Rotation) -> None:
    heading(f"{one.client_name}: {one.old.hint} → {one.new.hint}")
    rows = [
        ("state", _WORD[one.state]),
        ("opened", f"{relative(one.opened_at)} by {one.opened_by}"),
        ("overlap", f"until {one.overlap_ends_at:%Y-%m-%d %H:%M} UTC, {relative(one.overlap_ends_at)}"),
        ("new one", f"first used {relative(one.new.first_used_at)}; expires {relative(one.new.expires_at, 'never')}"),
        ("old one", f"last used {relative(one.old.last_used_at)}; expires {relative(one.old.expires_at, 'never')}"),
    ]
    if one.state.open and one.quiet_at is not None:
        rows.append(("quiet", f"{relative(one.quiet_at)} if nothing uses the old one"))
    for name, value in rows:
        out.print(f"  {name:<8} {value}", markup=False)
    for user in one.users:
        who = f"{user.user_agent or 'a program without a name'} at {user.address or 'an unknown address'}"
        out.print(f"  ▲ still used by {who}, {user.times} times, last {relative(user.last_at)}", markup=False)


def show_rotations(found: Sequence[Rotation]) -> None:
    if not found:
        out.print("No rotation.")
        return
    table(
        ["client", "old → new", "state", "overlap ends", "old last used"],
        [
            [
                one.client_name,
                f"{one.old.hint} → {one.new.hint}",
                Text(_WORD[one.state], style=_STYLE[one.state]),
                relative(one.overlap_ends_at) if one.state.open else f"ended {relative(one.ended_at)}",
                relative(one.old.last_used_at),
            ]
            for one in found
        ],
    )


def show_due(due: Sequence[Due]) -> None:
    if not due:
        out.print("Nothing is due.")
        return
    heading("Due")
    table(
        ["client", "credential", "kind", "expires", "last used", "both stand until"],
        [
            [
                one.client_name,
                one.credential.hint,
                one.credential.kind.words,
                relative(one.credential.expires_at),
                relative(one.credential.last_used_at),
                f"{one.overlap_ends_at:%Y-%m-%d}",
            ]
            for one in due
        ],
    )


def show_forecast(today: Sequence[Week], other: Sequence[Week] | None) -> None:
    most = max(one.due for one in [*today, *(other or [])])
    columns = ["week of", "to", "rotations", "", *(["under the other policy", ""] if other is not None else [])]
    rows: list[list[str | Text]] = []
    for place, one in enumerate(today):
        beside = other[place] if other is not None else None
        if not one.due and not (beside and beside.due):
            continue
        ends = one.begins + timedelta(days=6)
        row: list[str | Text] = [f"{one.begins:%d %b %Y}", f"{ends:%d %b}", str(one.due), _bar(one.due, most)]
        rows.append([*row, str(beside.due), _bar(beside.due, most)] if beside is not None else row)
    table(columns, rows, right=["rotations", "under the other policy"])
    total = f"{sum(one.due for one in today)} in a year"
    if other is not None:
        total += f"; {sum(one.due for one in other)} under the other policy"
    out.print(total + ".")


def _bar(count: int, most: int) -> Text:
    return Text("█" * max(1, round(20 * count / most)) if count else "", style="cyan")


def many(count: int, what: str) -> str:
    return f"{count} {what}{'' if count == 1 else 's'}"
