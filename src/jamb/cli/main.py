"""The `jamb` command. Other packages mount groups of commands by the entry point group `jamb.commands`."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from importlib import import_module
from importlib.util import find_spec
from typing import TYPE_CHECKING, Annotated, Any, NamedTuple

import typer

from jamb import __version__
from jamb.cli.base.output import fail
from jamb.core.errors import BadInput, JambError
from jamb.imports import kept

if TYPE_CHECKING:
    from importlib.metadata import EntryPoint


class _Command(NamedTuple):
    """A command or group of commands: its module of jamb.cli, what of it, and what it is for."""

    module: str
    what: str
    help: str


_COMMANDS = {
    "sign-in": _Command(
        "entry.sign_in", "sign_in", "Sign in with a browser: approve the code that is shown here (RFC 8628)."
    ),
    "sign-out": _Command("entry.sign_in", "sign_out", "End the sign-in, here and at the service."),
    "whoami": _Command("entry.sign_in", "whoami", "Say who the service takes you for, and which roles you have."),
    "search": _Command(
        "audit.search", "search", "Find clients, people, resources, permissions and all else by a word."
    ),
    "today": _Command(
        "audit.today", "today", "Say what waits for consent, which credentials expire next, and what the audit finds."
    ),
    "set-up": _Command(
        "clients.set_up",
        "set_up",
        "Register a client, ask, consent where you may (or ask the approvers), and issue a credential.",
    ),
    "explain": _Command(
        "resources.access",
        "explain",
        "Say whether a client may do an operation, every check behind it, and the smallest change that would allow it.",
    ),
    "probe": _Command(
        "resources.probe",
        "probe",
        "Try a client as its integrator would: fetch a token, read it, call the resource, explain the answer.",
    ),
    "holders": _Command(
        "resources.access", "holders", "Say who can do an operation: all clients and people, and through what."
    ),
}
_GROUPS = {
    "clients": _Command("clients.clients", "app", "Client applications: list, show, register."),
    "initial-access": _Command(
        "clients.initial_access", "app", "Tokens with which software registers clients by itself (RFC 7591)."
    ),
    "resources": _Command("resources.resources", "app", "Resources and what unlocks what."),
    "asks": _Command("consent.asks", "app", "Say which permissions a client needs."),
    "consent": _Command("consent.consent", "app", "See what consent would make possible, and consent."),
    "requests": _Command("consent.requests", "app", "Ask an approver to consent, and decide what is asked."),
    "reach": _Command("resources.reach", "app", "Prove what a client can and cannot touch."),
    "token": _Command("resources.token", "app", "Fetch an access token, or read one."),
    "people": _Command("directory.people", "people", "The people of the directory."),
    "groups": _Command("directory.people", "groups", "Groups of people, nested."),
    "roles": _Command("directory.people", "roles", "Bundles of permissions, and who holds them where."),
    "providers": _Command(
        "directory.providers", "app", "Outside OpenID providers by which people of the directory sign in."
    ),
    "signing-keys": _Command("directory.signing_keys", "app", "The keys that sign the directory's tokens."),
    "policy": _Command("directory.policy", "app", "What the directory's policy bounds."),
    "secrets": _Command("credentials.secrets", "app", "Client secrets: issue one."),
    "credentials": _Command(
        "credentials.credentials", "app", "Credentials of every kind: see, add, stop and end them."
    ),
    "rotate": _Command("credentials.rotate", "app", "Replace credentials before they expire, without an outage."),
    "handover": _Command(
        "credentials.handover", "app", "Hand a new credential over: by a link that shows it once, or sealed to a key."
    ),
    "leaks": _Command("credentials.leaks", "app", "Find client secrets in files and in git histories."),
    "notices": _Command("notices.notices", "app", "See what people were told, and how the mails fared."),
    "webhooks": _Command("notices.notices", "webhooks", "Addresses that hear of everything by signed events."),
    "audit": _Command("audit.audit", "app", "Find what is wrong with registrations."),
    "rightsize": _Command("consent.rightsize", "app", "Right-size what a client holds to what it does."),
    "charter": _Command("consent.charter", "app", "Declare a registration in a file, and adopt it in any directory."),
    "reviews": _Command(
        "audit.reviews", "app", "Access reviews: owners confirm, narrow or give up what their clients hold."
    ),
    "publishers": _Command(
        "clients.removals", "publishers", "Publishers of clients from elsewhere, and who answers for them."
    ),
    "ledger": _Command("directory.ledger", "app", "The record of every change."),
}


def command_line(words: Sequence[str] = ()) -> typer.Typer:
    """Return the command line for these words: the command that they name, or, where they name none, all as a list.

    What is not imported costs no time.
    """
    app = typer.Typer(
        help="Register client applications, consent to what they ask, give them credentials, and audit them.",
        epilog="Exit codes: 0 done; 1 the audit, the ledger or the leak check found something, or what was asked about "
        "is refused; 2 not acceptable as given; 3 not signed in or not allowed; 4 the service does not answer.",
        no_args_is_help=True,
        pretty_exceptions_enable=False,
    )
    app.callback()(_root)
    first = next((word for word in words if not word.startswith("-")), None)
    # To find what is mounted is to look through all that is installed.
    mounted = {} if first in {*_COMMANDS, *_GROUPS} else _mounted()
    wanted = first if first in {*_COMMANDS, *_GROUPS, *mounted} else None
    for name, place in _COMMANDS.items():
        if wanted in {None, name}:
            app.command(name, help=place.help if wanted is None else None)(_found(place) if wanted else _elsewhere)
    for name, place in _GROUPS.items():
        if wanted in {None, name}:
            app.add_typer(_found(place) if wanted else typer.Typer(), name=name, help=place.help)
    for name, entry in mounted.items():
        if wanted in {None, name}:
            app.add_typer(entry.load(), name=name)
    return app


def _mounted() -> dict[str, EntryPoint]:
    """Return the groups of other packages. Every installation announces the demo's, and a checkout alone has it."""
    from importlib.metadata import entry_points  # noqa: PLC0415 - most commands are our own

    found = entry_points(group="jamb.commands")
    return {entry.name: entry for entry in found if find_spec(entry.module.rpartition(".")[0])}


def _found(place: _Command) -> Any:
    return getattr(import_module(f"jamb.cli.{place.module}"), place.what)


def _elsewhere() -> None:
    """Stand for a command that is listed and not called."""


def _words() -> list[str]:
    """Return what was typed; while a shell completes a line, what is in that so far."""
    line = os.environ.get("_TYPER_COMPLETE_ARGS") or os.environ.get("COMP_WORDS")
    return line.split()[1:] if line and "_JAMB_COMPLETE" in os.environ else sys.argv[1:]


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
        with kept():
            commands = command_line(_words())
        commands()
    except JambError as error:
        fail(error)
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        fail(BadInput(f"{where}{error.strerror or error}.", next_step="Make room or choose another place, then go on."))
    except KeyboardInterrupt:
        sys.exit(130)
