"""Client secrets: issue with the connection sheet, list, withdraw."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated
from uuid import UUID

import typer

from jamb.cli.clients import CREDENTIAL_COLUMNS, SheetForm, credential_rows, print_sheets
from jamb.cli.connection import connected
from jamb.cli.output import ClientArgument, Form, Output, YesOption, confirm, emit, note, out, relative, table
from jamb.client import BadInput, NotFound

app = typer.Typer(help="Client secrets: issue, list, withdraw.", no_args_is_help=True)


@app.command()
def issue(
    client: ClientArgument,
    days: Annotated[int | None, typer.Option(help="Days until it ends; the policy's default when left out")] = None,
    form: Annotated[SheetForm, typer.Option(help="How to print the connection sheet")] = SheetForm.TEXT,
    save: Annotated[
        Path | None, typer.Option(help="Write the sheet to this new file (mode 600), print no secret")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Issue a secret and print the connection sheet. The secret is shown this once only."""
    if save is not None and save.exists():
        raise BadInput.field("--save", str(save), "a file that does not exist yet", "Nothing was issued.")
    with connected() as jamb:
        issued = jamb.secrets.issue(jamb.clients.find(client).id, days=days)
    if save is not None:
        text = "\n\n".join(one.forms[form] for one in issued.sheets) + "\n"
        with os.fdopen(os.open(save, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "w") as opened:
            opened.write(text)
        out.print(f"Secret {issued.credential.hint} ends {relative(issued.credential.expires_at)}.", markup=False)
        out.print(f"The sheet is in {save}; it is the only copy.", markup=False)
        return
    emit(issued, output, lambda: print_sheets(issued.sheets, form))
    note(f"Ends {relative(issued.credential.expires_at)}. Copy the secret now: it is never shown again.")


@app.command("list")
def list_secrets(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """List a client's secrets: hints, dates and use."""
    with connected() as jamb:
        found = list(jamb.secrets.list(jamb.clients.find(client).id))
    emit(found, output, lambda: table(CREDENTIAL_COLUMNS, credential_rows(found)))


@app.command()
def withdraw(
    client: ClientArgument,
    secret: Annotated[str, typer.Argument(help="The secret's id, or its hint")],
    reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """End a secret now, for good. Tokens fetched with it live on until they run out."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        held = [one for one in jamb.secrets.list(found.id) if secret in {str(one.id), one.hint, one.hint.rstrip("…")}]
        if len(held) != 1:
            raise NotFound(f"“{found.name}” has no secret “{secret[:40]}”.", next_step="See `jamb secrets list`.")
        used = relative(held[0].last_used_at)
        confirm(f"Withdraw {held[0].hint} of “{found.name}” (last used {used})? It cannot be undone.", yes)
        ended = jamb.secrets.withdraw(found.id, UUID(str(held[0].id)), reason=reason)
    emit(ended, output, lambda: out.print(f"Withdrawn: {ended.hint}.", markup=False))
