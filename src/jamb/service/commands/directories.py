"""Directories, as whoever runs the service has them: open, list, rename, suspend, resume, and a steward for each."""

from __future__ import annotations

from datetime import UTC, datetime
from functools import partial
from typing import Annotated

import typer

from jamb.actions.directory import addresses, opening
from jamb.core.directory.sign_in_links import DEFAULT_HOURS, MOST_HOURS
from jamb.service.commands.backend import backend_of
from jamb.service.config.settings import read_settings
from jamb.store.base.migrate import migrate
from jamb.wire.directory.sign_in_links import SignInLink

app = typer.Typer(no_args_is_help=True, help="Open, list, rename, suspend and resume directories.")
SlugArgument = Annotated[str, typer.Argument(metavar="DIRECTORY", help="Its short name, as addresses have it")]
StewardOption = Annotated[str, typer.Option("--steward", metavar="LOGIN", help="Login of the steward, a mail address")]
HoursOption = Annotated[int, typer.Option(min=1, max=MOST_HOURS, help="How long the link opens, in hours")]


@app.command("open")
def open_(
    slug: Annotated[str, typer.Argument(metavar="DIRECTORY", help="Short name: lower-case words joined by hyphens")],
    name: Annotated[str, typer.Option(help="Name of the organisation")],
    domain: Annotated[str, typer.Option(help="Its domain: people sign in as name@domain")],
    steward: StewardOption,
    steward_name: Annotated[str, typer.Option(help="Name of the steward")],
    hours: HoursOption = DEFAULT_HOURS,
) -> None:
    """Open a directory with its first steward, and print the link by which they choose their password.

    On an empty database it makes the schema and, where there is none, the sealing key.
    """
    settings = read_settings()
    backend = backend_of(settings, prepare=partial(migrate, finish=False))
    wanted = opening.NewDirectory(slug, name, domain)
    link = opening.open_with_steward(backend, wanted, steward, steward_name, hours, _now())
    typer.echo(f"“{name}” is open: {backend.issuer(slug)}")
    if settings.sealing_key is None:
        typer.echo(f"The sealing key is in {settings.home.resolve()}: keep a copy, apart from the database's.")
    _print(link)


@app.command("list")
def list_() -> None:
    """List the directories, with the stewards who can sign in."""
    for found in opening.list_directories(backend_of(read_settings()), _now()):
        state = f"suspended since {found.suspended_at:%Y-%m-%d %H:%M} UTC" if found.suspended_at is not None else "open"
        stewards = ", ".join(found.stewards) or "nobody yet: run `jamb-service directories steward`"
        typer.echo(f"{found.slug}  {found.name}, {found.domain}; {state}; stewards: {stewards}")


@app.command()
def steward(
    slug: SlugArgument,
    login: StewardOption,
    name: Annotated[str, typer.Option(help="Name of the steward, if they are new")] = "",
    hours: HoursOption = DEFAULT_HOURS,
) -> None:
    """Print a new link for a steward; or make somebody steward where no steward can sign in."""
    _print(opening.make_steward(backend_of(read_settings()), slug, login, name, hours, _now()))


@app.command()
def rename(
    slug: SlugArgument,
    name: Annotated[str | None, typer.Option(help="Another name")] = None,
    domain: Annotated[str | None, typer.Option(help="Another domain, by which its people sign in")] = None,
) -> None:
    """Give a directory another name or domain. Its short name stays: addresses have it."""
    opening.rename(backend_of(read_settings()), slug, name, domain, _now())
    typer.echo(f"{slug} is renamed.")


@app.command()
def move(
    days: Annotated[int, typer.Option(min=0, max=addresses.MOST_DAYS, help="How long the former address holds")] = 30,
) -> None:
    """Move all directories to the address of JAMB_PUBLIC_URL; then start the service anew.

    For so many days tokens, requests and assertions made for the former address are good at the new one. Guards of
    APIs check the issuer themselves: give them the new one with the former beside it before the move.
    """
    for slug, former in addresses.move(backend_of(read_settings()), days, _now()).items():
        typer.echo(f"{slug} was reached at {former}.")
    typer.echo(f"All directories are reached at {read_settings().base_url}. Start every process with it.")


@app.command()
def suspend(slug: SlugArgument, reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "") -> None:
    """Suspend a directory: no sign-in, no new token, no administration. Tokens given before run out in minutes."""
    opening.set_suspended(backend_of(read_settings()), slug, reason, _now(), suspended=True)
    typer.echo(f"{slug} is suspended; `jamb-service directories resume {slug}` ends it.")


@app.command()
def resume(slug: SlugArgument, reason: Annotated[str, typer.Option(help="Why, for the ledger")] = "") -> None:
    """Resume a suspended directory, as it was."""
    opening.set_suspended(backend_of(read_settings()), slug, reason, _now(), suspended=False)
    typer.echo(f"{slug} is open again.")


def _print(link: SignInLink) -> None:
    until = f"{link.expires_at:%Y-%m-%d %H:%M} UTC"
    typer.echo(f"Give this link to {link.login} and to nobody else. It opens once, until {until}:")
    typer.echo(f"  {link.link}")


def _now() -> datetime:
    return datetime.now(UTC)
