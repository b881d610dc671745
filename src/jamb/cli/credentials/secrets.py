"""Client secrets: issue one with its connection sheet."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.output import ClientArgument, Form, Output, emit, note, out, relative
from jamb.cli.clients.sheets import SheetForm, print_sheets
from jamb.cli.credentials.credentials import LabelOption, pick
from jamb.cli.credentials.private_files import write_private
from jamb.client import BadInput

app = typer.Typer(no_args_is_help=True)


@app.command()
def issue(
    client: ClientArgument,
    days: Annotated[int | None, typer.Option(help="Lifetime in days; the policy's default when left out")] = None,
    label: LabelOption = "",
    instead_of: Annotated[
        str | None, typer.Option(help="Withdraw this lost credential in the same step: its id, hint or label")
    ] = None,
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
        lost = pick(jamb, client, instead_of)[1].id if instead_of is not None else None
        issued = jamb.secrets.issue(jamb.clients.find(client).id, days=days, label=label, instead_of=lost)
    if save is not None:
        text = "\n\n".join(one.forms[form] for one in issued.sheets) + "\n"
        write_private(save, text.encode())
        out.print(f"Secret {issued.credential.hint} expires {relative(issued.credential.expires_at)}.", markup=False)
        out.print(f"The sheet is in {save}; it is the only copy.", markup=False)
        return
    emit(issued, output, lambda: print_sheets(issued.sheets, form))
    if issued.replaced is not None:
        note(f"Withdrawn: {issued.replaced.hint}.")
    note(f"Ends {relative(issued.credential.expires_at)}. Copy the secret now: it is never shown again.")
