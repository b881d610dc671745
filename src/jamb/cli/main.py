"""The `jamb` command."""

from __future__ import annotations

import sys
from typing import Annotated

import typer

from jamb import __version__
from jamb.cli import (
    access,
    asks,
    audit,
    clients,
    consent,
    credentials,
    handover,
    leaks,
    ledger,
    notices,
    people,
    policy,
    probe,
    reach,
    requests,
    resources,
    rotate,
    secrets,
    set_up,
    sign_in,
    today,
)
from jamb.cli.output import fail
from jamb.client import BadInput, JambError

app = typer.Typer(
    help="Register client applications, consent to what they ask, give them credentials, and audit them.",
    epilog="Exit codes: 0 done; 1 the audit, the ledger or the leak check found something; 2 not acceptable as given; "
    "3 not signed in or not allowed; 4 the service does not answer.",
    no_args_is_help=True,
    pretty_exceptions_enable=False,
)
app.command("sign-in")(sign_in.sign_in)
app.command("sign-out")(sign_in.sign_out)
app.command()(sign_in.whoami)
app.command()(today.today)
app.command("set-up")(set_up.set_up)
app.add_typer(clients.app, name="clients")
app.add_typer(resources.app, name="resources")
app.add_typer(asks.app, name="asks")
app.add_typer(consent.app, name="consent")
app.add_typer(requests.app, name="requests")
app.add_typer(reach.app, name="reach")
app.add_typer(people.roles, name="roles")
app.add_typer(people.groups, name="groups")
app.add_typer(people.people, name="people")
app.add_typer(policy.app, name="policy")
app.add_typer(secrets.app, name="secrets")
app.add_typer(credentials.app, name="credentials")
app.add_typer(rotate.app, name="rotate")
app.command()(access.explain)
app.command()(probe.probe)
app.command()(probe.token)
app.command()(access.who_can)
app.add_typer(handover.app, name="handover")
app.add_typer(leaks.app, name="leaks")
app.add_typer(notices.app, name="notices")
app.add_typer(notices.webhooks, name="webhooks")
app.add_typer(audit.app, name="audit")
app.add_typer(ledger.app, name="ledger")


def _version(wanted: bool) -> None:
    if wanted:
        print(f"jamb {__version__}")
        raise typer.Exit


@app.callback()
def root(
    version: Annotated[
        bool, typer.Option("--version", callback=_version, is_eager=True, help="Print the version")
    ] = False,
) -> None:
    """Nothing to do before a command."""


def run() -> None:
    """Entry point: a problem is a few lines on standard error, never a traceback."""
    try:
        app()
    except JambError as error:
        fail(error)
    except OSError as error:
        where = f"{error.filename}: " if error.filename else ""
        fail(BadInput(f"{where}{error.strerror or error}.", next_step="Make room or choose another place, then go on."))
    except KeyboardInterrupt:
        sys.exit(130)
