"""Initial access tokens: let software register clients of its own."""

from __future__ import annotations

from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant, whole_id
from jamb.cli.base.output import Form, Output, emit, out, relative, table
from jamb.core.clients.initial_access import DEFAULT_DAYS

app = typer.Typer(no_args_is_help=True)


@app.command("list")
def list_tokens(output: Output = Form.TABLE) -> None:
    """List the latest, the newest first."""
    with connected() as jamb:
        found = jamb.initial_access.list()
    columns = ["id", "label", "state", "registered", "expires", "made by"]
    rows = [
        [str(one.id), one.label, one.state, f"{one.used} of {one.uses}", relative(one.expires_at), one.made_by]
        for one in found
    ]
    emit(found, output, lambda: table(columns, rows))


@app.command()
def make(
    label: Annotated[str, typer.Argument(metavar="LABEL", help="Who is given it, or what for")],
    uses: Annotated[int, typer.Option(help="How many clients it registers")] = 1,
    days: Annotated[int, typer.Option(help="Days until it expires")] = DEFAULT_DAYS,
    owner: Annotated[
        list[str] | None, typer.Option(help="Login of who will own what is registered; may be given again")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Make a token with which software registers clients by itself (RFC 7591); it is shown once."""
    with connected() as jamb:
        made = jamb.initial_access.make(label, uses=uses, days=days, owners=owner or ())
        issuer = jamb.directory().issuer

    def show() -> None:
        many = "one client" if made.uses == 1 else f"up to {made.uses} clients"
        out.print(f"“{made.label}” registers {many} until {made.expires_at:%Y-%m-%d %H:%M} UTC.", markup=False)
        out.print("This is shown once:", style="dim")
        out.print(made.token, markup=False, soft_wrap=True)
        out.print(f"Send it as a bearer token to {issuer}/register", markup=False, soft_wrap=True)
        out.print("What it registers only asks; consent is given as for every client.", style="dim")

    emit(made, output, show)


@app.command()
def withdraw(
    token: Annotated[str, typer.Argument(metavar="TOKEN", help="Its id, how that begins, or its label")],
    output: Output = Form.TABLE,
) -> None:
    """End one that is open; what was registered with it stays."""
    with connected() as jamb:
        key = whole_id(token)
        if key is None:
            known, see = jamb.initial_access.list(), "jamb initial-access list"
            key = meant(known, token, lambda one: {one.label}, noun="initial access token", see=see).id
        done = jamb.initial_access.withdraw(key)
    emit(done, output, lambda: out.print(f"“{done.label}” registers nothing any more.", markup=False))
