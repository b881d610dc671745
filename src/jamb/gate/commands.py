"""The program `jamb-guard`: serves the gate."""

from __future__ import annotations

import json
from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer
import uvicorn

from jamb.gate.gate import FORWARDED, ORIGINAL, Gate
from jamb.guard.checks import Checks

# More are answered 503 at once: the proxy tells its callers to come again.
MOST_AT_ONCE = 1000
app = typer.Typer(no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False)


class NamedBy(StrEnum):
    """original: X-Original-Method and X-Original-URI. forwarded: X-Forwarded-Method and X-Forwarded-Uri."""

    ORIGINAL = "original"
    FORWARDED = "forwarded"


@app.callback()
def main() -> None:
    """Protect an API of any language behind a reverse proxy."""


@app.command()
def serve(
    config: Annotated[Path, typer.Option(help="The file of `jamb resources guard RESOURCE --save FILE`")],
    host: Annotated[str, typer.Option(help="Address to listen on: the proxy alone must reach it")] = "127.0.0.1",
    port: Annotated[int, typer.Option(help="Port to listen on", min=1, max=65535)] = 8450,
    named_by: Annotated[
        NamedBy, typer.Option(help="Headers by which the proxy names the request that it asks about")
    ] = NamedBy.ORIGINAL,
) -> None:
    """Answer whether requests may pass: GET /check, with 204, or 401 and 403 with the reason.

    The answer to a request that may pass names the client and the person (Guard-Client, Guard-Person, Guard-Scope,
    Guard-Limits), for the proxy to give to the API. `packaging/nginx-gate.conf` shows it for nginx.
    """
    try:
        checks = Checks.from_file(config)
        realm = json.loads(config.read_text())["resource"]
    except (OSError, ValueError, TypeError) as error:
        typer.echo(f"jamb-guard: {config} is no file of `jamb resources guard --save`: {error}", err=True)
        raise typer.Exit(2) from error
    gate = Gate(checks, realm, FORWARDED if named_by is NamedBy.FORWARDED else ORIGINAL)
    uvicorn.run(gate.application(), host=host, port=port, log_level="warning", limit_concurrency=MOST_AT_ONCE)


def run() -> None:
    app()
