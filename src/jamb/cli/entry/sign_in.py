"""Sign in, out, and who one is."""

from __future__ import annotations

import time
from typing import Annotated

import typer

from jamb.cli.base import connection
from jamb.cli.base.output import Form, Output, emit, err, fields, note, out
from jamb.client import DeviceSignIn, NotSignedIn


def sign_in(
    url: Annotated[str, typer.Option(envvar="JAMB_URL", help="Where the service answers")] = "http://127.0.0.1:8440",
    directory: Annotated[str, typer.Option(envvar="JAMB_DIRECTORY", help="Short name of the directory")] = "quillhaven",
) -> None:
    """Sign in with a browser: approve the code that is shown here (RFC 8628)."""
    started = DeviceSignIn.start(url, directory)
    err.print(f"Open  {started.complete_address}", markup=False)
    err.print(f"Code  {started.user_code}   (the page must show the same)", markup=False)
    note(f"Waiting up to {started.expires_in_seconds / 60:.0f} minutes for your yes …")
    token, seconds = started.wait()
    connection.keep(connection.SignIn(url.rstrip("/"), directory, token, time.time() + seconds))
    with connection.connected() as jamb:
        who = jamb.whoami()
    roles = ", ".join(who.roles) or "no role: most commands will refuse, and say whom to ask"
    out.print(f"Signed in to {directory} as {who.name} ({roles}) for {seconds / 3600:.0f} hours.", markup=False)


def sign_out() -> None:
    """End the sign-in, here and at the service."""
    if connection.kept() is None:
        out.print("You are not signed in.")
        return
    try:
        with connection.connected() as jamb:
            jamb.sign_out()
    except NotSignedIn:
        note("The sign-in had ended already.")
    connection.forget()
    out.print("Signed out.")


def whoami(output: Output = Form.TABLE) -> None:
    """Say who the service takes you for, and which roles you have."""
    with connection.connected() as jamb:
        who = jamb.whoami()
    emit(
        who,
        output,
        lambda: fields(
            [
                ("name", who.name),
                ("acting", f"as a {who.kind}, through {who.via}"),
                ("directory", who.directory),
                ("roles", ", ".join(who.roles) or ("—" if who.kind == "client" else "none")),
            ]
        ),
    )
