"""The `jamb` command. Other packages mount groups of commands by the entry point group `jamb.commands`."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from importlib import import_module
from importlib.metadata import entry_points
from typing import Annotated, Any

import typer

from jamb import __version__
from jamb.cli.output import fail
from jamb.client import BadInput, JambError

# Where each command is: a module of jamb.cli, and what of it.
_COMMANDS = {
    "sign-in": ("sign_in", "sign_in"),
    "sign-out": ("sign_in", "sign_out"),
    "whoami": ("sign_in", "whoami"),
    "today": ("today", "today"),
    "set-up": ("set_up", "set_up"),
    "explain": ("access", "explain"),
    "probe": ("probe", "probe"),
    "token": ("probe", "token"),
    "who-can": ("access", "who_can"),
}
_GROUPS = {
    "clients": ("clients", "app"),
    "resources": ("resources", "app"),
    "asks": ("asks", "app"),
    "consent": ("consent", "app"),
    "requests": ("requests", "app"),
    "reach": ("reach", "app"),
    "people": ("people", "people"),
    "groups": ("people", "groups"),
    "roles": ("people", "roles"),
    "policy": ("policy", "app"),
    "secrets": ("secrets", "app"),
    "credentials": ("credentials", "app"),
    "rotate": ("rotate", "app"),
    "handover": ("handover", "app"),
    "leaks": ("leaks", "app"),
    "notices": ("notices", "app"),
    "webhooks": ("notices", "webhooks"),
    "audit": ("audit", "app"),
    "fit": ("fit", "app"),
    "reviews": ("reviews", "app"),
    "publishers": ("removals", "publishers"),
    "ledger": ("ledger", "app"),
}


def command_line(words: Sequence[str] = ()) -> typer.Typer:
    """Return the command line, or only the command that the words begin with: what is not imported costs no time."""
    app = typer.Typer(
        help="Register client applications, consent to what they ask, give them credentials, and audit them.",
        epilog="Exit codes: 0 done; 1 the audit, the ledger or the leak check found something; 2 not acceptable as "
        "given; 3 not signed in or not allowed; 4 the service does not answer.",
        no_args_is_help=True,
        pretty_exceptions_enable=False,
    )
    app.callback()(_root)
    mounted = {one.name: one for one in entry_points(group="jamb.commands")}
    wanted = words[0] if words and words[0] in {*_COMMANDS, *_GROUPS, *mounted} else None
    for name, place in _COMMANDS.items():
        if wanted in {None, name}:
            app.command(name)(_found(*place))
    for name, place in _GROUPS.items():
        if wanted in {None, name}:
            app.add_typer(_found(*place), name=name)
    for name, entry in mounted.items():
        if wanted in {None, name}:
            app.add_typer(entry.load(), name=name)
    return app


def _found(module: str, name: str) -> Any:
    return getattr(import_module(f"jamb.cli.{module}"), name)


def _version(wanted: bool) -> None:
    if wanted:
        print(f"jamb {__version__}")
        raise typer.Exit


def _root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version")
    ] = False,
) -> None:
    """Nothing to do before a command."""


def run() -> None:
    """Entry point: a problem is a few lines on standard error, never a traceback."""
    try:
        command_line(sys.argv[1:])()
    except JambError as error:
        fail(error)
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        fail(BadInput(f"{where}{error.strerror or error}.", next_step="Make room or choose another place, then go on."))
    except KeyboardInterrupt:
        sys.exit(130)
