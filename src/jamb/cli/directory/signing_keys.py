"""The keys that sign a directory's tokens."""

from __future__ import annotations

from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant
from jamb.cli.base.options import ReasonOption
from jamb.cli.base.output import Form, Output, YesOption, confirm, emit, out, relative, table
from jamb.core.directory.signing_keys import SigningAlgorithm

app = typer.Typer(no_args_is_help=True)
AlgorithmOption = Annotated[
    SigningAlgorithm,
    typer.Option(case_sensitive=False, help="Of which series: `jamb signing-keys list` tells what each signs"),
]


@app.command("list")
def list_keys(output: Output = Form.TABLE) -> None:
    """List the keys that sign tokens, and those that did, newest first."""
    with connected() as jamb:
        found = jamb.signing_keys.list()
    emit(
        found,
        output,
        lambda: table(
            ["key", "signs", "state", "made", "signs from"],
            [
                [
                    one.id,
                    f"{one.signs} ({one.algorithm})",
                    one.state.words,
                    relative(one.made_at),
                    relative(one.signs_from),
                ]
                for one in found
            ],
        ),
    )


@app.command()
def rotate(
    algorithm: AlgorithmOption = SigningAlgorithm.ES256, reason: ReasonOption = "", output: Output = Form.TABLE
) -> None:
    """Publish a new key; it signs a quarter of an hour later, when every guard has read it."""
    with connected() as jamb:
        made = jamb.signing_keys.rotate(reason, algorithm)
    emit(
        made, output, lambda: out.print(f"{made.id} is published, and signs {relative(made.signs_from)}.", markup=False)
    )


@app.command()
def withdraw(
    key: Annotated[str, typer.Argument(metavar="KEY", help="Its id, or how it begins")],
    reason: Annotated[str, typer.Option(help="Why, for the ledger")],
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Withdraw a key that somebody else may have: every token that it signed is refused from then on."""
    with connected() as jamb:
        known, see = jamb.signing_keys.list(), "jamb signing-keys list"
        held = meant(known, key, lambda _: (), noun="signing key", see=see).id
        confirm(
            f"Every token that {held} signed is refused, by guarded APIs within a minute. Clients fetch new ones; "
            "people at the command line sign in again. Withdraw it?",
            yes,
        )
        done = jamb.signing_keys.withdraw(held, reason)
    emit(done, output, lambda: out.print(f"{done.withdrawn} is withdrawn; {done.signs} signs.", markup=False))
