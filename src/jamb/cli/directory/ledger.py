"""The ledger: read and verify."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.output import EXIT_FOUND, Form, Output, emit, fields, out, table
from jamb.wire.directory.ledger import LedgerEntry

_MOST_NAMED = 4
app = typer.Typer(no_args_is_help=True)


@app.command("list")
def list_entries(
    client: Annotated[str | None, typer.Option(help="Only changes of this client (id or name)")] = None,
    limit: Annotated[int, typer.Option(min=1, help="How many at the most")] = 30,
    output: Output = Form.TABLE,
) -> None:
    """List changes, newest first: who, what, on what, before and after."""
    with connected() as jamb:
        wanted = jamb.clients.find(client).id if client else None
        rows = [entry for entry, _ in zip(jamb.ledger.list(client=wanted), range(limit), strict=False)]
    emit(rows, output, lambda: _show(rows))


@app.command()
def verify(output: Output = Form.TABLE) -> None:
    """Check the whole chain. Leaves with code 1 if it was tampered with."""
    with connected() as jamb:
        found = jamb.ledger.verify()

    def show() -> None:
        if found.sound:
            out.print(Text("✓ ", style="green").append(f"{found.entries} entries, all in place.", style="default"))
            fields([("head", found.head)])
        else:
            out.print(Text("✗ The ledger was tampered with: ", style="bold red").append(found.what, style="default"))

    emit(found, output, show)
    if not found.sound:
        raise typer.Exit(EXIT_FOUND)


def _show(rows: list[LedgerEntry]) -> None:
    table(
        ["#", "when (UTC)", "who", "change", "on", "before → after"],
        [
            [
                str(row.sequence),
                f"{row.at:%Y-%m-%d %H:%M}",
                row.actor["name"],
                row.action,
                row.subject["name"],
                _change(row),
            ]
            for row in rows
        ],
        right=["#"],
    )


def _change(row: LedgerEntry) -> str:
    def words(value: object) -> str:
        if not isinstance(value, list):
            return str(value)
        return ", ".join(str(item) for item in value) if len(value) <= _MOST_NAMED else f"{len(value)} in all"

    def side(values: dict[str, object] | None) -> str:
        return "; ".join(f"{name}: {words(value)}" for name, value in (values or {}).items())

    return f"{side(row.before)} → {side(row.after)}" if row.before else side(row.after)
