"""Keys, as whoever runs the service has them: signing keys are rotated and withdrawn, the sealing key replaced."""

from __future__ import annotations

from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

from jamb.actions.base.act import act_in
from jamb.actions.base.all_directories import OPERATOR
from jamb.actions.directory import sealing_keys, signing_keys
from jamb.core.directory.signing_keys import KeyState, SigningAlgorithm
from jamb.service.commands.backend import backend_of
from jamb.service.config.settings import keep_sealing_key, read_settings

app = typer.Typer(no_args_is_help=True, help="Keys that sign a directory's tokens, and the sealing key.")
SlugArgument = Annotated[str, typer.Argument(metavar="DIRECTORY", help="Its short name, as addresses have it")]


@app.command("list")
def list_(slug: SlugArgument) -> None:
    """List the signing keys, newest first."""
    for key in signing_keys.list_keys(act_in(backend_of(read_settings()), slug, _now(), OPERATOR)):
        state = {
            KeyState.WITHDRAWN: f"withdrawn {key.withdrawn_at:%Y-%m-%d %H:%M} UTC" if key.withdrawn_at else "",
            KeyState.COMING: f"published, signs from {key.signs_from:%Y-%m-%d %H:%M} UTC",
            KeyState.PUBLISHED: "published",
            KeyState.ENDED: "no longer published",
            KeyState.SIGNS: "signs",
        }[key.state]
        typer.echo(f"{key.id}  {key.algorithm} for {key.signs}, made {key.made_at:%Y-%m-%d %H:%M} UTC; {state}")


@app.command()
def rotate(
    slug: SlugArgument,
    reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "",
    algorithm: Annotated[
        SigningAlgorithm,
        typer.Option(case_sensitive=False, help="Of which series: `keys list` tells what each signs"),
    ] = SigningAlgorithm.ES256,
) -> None:
    """Publish a new key; it signs a quarter of an hour later, when every guard has read it."""
    made = signing_keys.rotate_key(act_in(backend_of(read_settings()), slug, _now(), OPERATOR), reason, algorithm)
    typer.echo(f"{made.id} is published, and signs from {made.signs_from:%Y-%m-%d %H:%M} UTC.")


@app.command()
def withdraw(
    slug: SlugArgument,
    kid: Annotated[str, typer.Argument(metavar="KEY", help="Its id")],
    reason: Annotated[str, typer.Option(help="Why, for the ledger")],
    yes: Annotated[bool, typer.Option("--yes", help="Do not ask")] = False,
) -> None:
    """Withdraw a key that somebody else may have: every token that it signed is refused from then on."""
    typer.echo(
        f"Every token that {kid} signed is refused: by Jamb within seconds, by guarded APIs when they read the keys "
        "again, within a minute. Clients fetch new ones; people at the command line sign in again."
    )
    if not yes:
        typer.confirm("Withdraw it?", abort=True)
    following = signing_keys.withdraw_key(act_in(backend_of(read_settings()), slug, _now(), OPERATOR), kid, reason)
    typer.echo(f"{kid} is withdrawn; {following} signs.")


@app.command("add-sealing")
def add_sealing(
    file: Annotated[Path, typer.Argument(help="The file of the new key; made if it is not there")],
    reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "",
) -> None:
    """Let another sealing key open the database beside the present one. Nothing is sealed anew, and nothing stops."""
    backend = backend_of(read_settings())
    sealing_keys.add_sealing_key(backend, keep_sealing_key(file), reason, _now())
    typer.echo(f"The key of {file} opens the database too. Now, one after the other:")
    typer.echo(f"  start every process with JAMB_SEALING_KEY_FILE={file.resolve()}, on each machine")
    typer.echo("  run `jamb-service keys end-sealing` with it: the former key opens nothing any more")
    typer.echo("  keep a copy of it apart from the database's; of older backups keep the former key")


@app.command("end-sealing")
def end_sealing(reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "") -> None:
    """Let the sealing key of these settings alone open the database."""
    ended = sealing_keys.end_other_keys(backend_of(read_settings()), reason, _now())
    typer.echo(f"{ended} former sealing key opens this database no more. A process that has it still is not ready.")


def _now() -> datetime:
    return datetime.now(UTC)
