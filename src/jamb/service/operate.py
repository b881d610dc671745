"""Commands for whoever runs the service: serve, migrate, and write the API's description."""

from __future__ import annotations

import asyncio
import json
import sys
from contextlib import suppress
from datetime import UTC, datetime
from functools import partial
from pathlib import Path
from typing import Annotated

import structlog
import typer
from sqlalchemy.exc import OperationalError
from sqlmodel import Session

from jamb.actions.directory.directories import refresh_own_api
from jamb.actions.notices import notices
from jamb.core.audit.evaluate import RULES
from jamb.core.audit.rules_page import rules_page
from jamb.core.errors import JambError, Misuse
from jamb.imports import kept
from jamb.service.commands import directories, keys
from jamb.service.commands.backend import backend_of, look_before_starting
from jamb.service.config.settings import Settings, read_settings
from jamb.service.config.sources import unknown
from jamb.service.running.logs import set_up_logs
from jamb.store.base.migrate import is_later, unfinished
from jamb.store.base.migrate import migrate as run_migrations

app = typer.Typer(
    help="Run the Jamb service.", no_args_is_help=True, add_completion=False, pretty_exceptions_enable=False
)


app.add_typer(directories.app, name="directories")
app.add_typer(keys.app, name="keys")


@app.command()
def serve() -> None:
    """Serve on JAMB_HOST and JAMB_PORT. Start as many processes on one database as you like."""
    settings = read_settings()
    set_up_logs(settings.log_level)
    for strange in unknown(Settings.model_fields):
        structlog.get_logger("jamb.settings").warning("not a setting", variable=strange)
    # Whatever is wrong is said in a sentence before anything listens.
    tls = settings.tls()
    look_before_starting(settings)
    with kept():
        from jamb.service.app import create_app
        from jamb.service.http.protocol import bounded_protocol
        from jamb.service.http.serving import STARTUP_FAILURE, Config, Server

        made = create_app(settings, tls)
    config = Config(
        made,
        tls,
        host=settings.host,
        port=settings.port,
        log_config=None,
        access_log=False,
        server_header=False,
        timeout_graceful_shutdown=5,
        http=bounded_protocol(settings.connection_limits()),
        proxy_headers=bool(settings.proxies()),
        forwarded_allow_ips=sorted(settings.proxies()),
    )

    def ending() -> None:
        # There is none where the start has failed.
        if (runtime := getattr(made.state, "runtime", None)) is not None:
            runtime.watch.end()

    server = Server(config, ending)
    # Whoever presses Ctrl-C has it stopped, as whoever sends a signal to end.
    with suppress(KeyboardInterrupt):
        server.run()
    if not server.started:
        raise typer.Exit(STARTUP_FAILURE)


@app.command()
def migrate(
    finish: Annotated[
        bool, typer.Option("--finish", help="Also take away what earlier versions need: none of their processes runs")
    ] = False,
) -> None:
    """Bring the database to the schema of this version, and Jamb's own API in every directory to what it offers.

    Processes of the version before go on serving, until it is finished.
    """
    backend = backend_of(read_settings(), prepare=partial(run_migrations, finish=finish))
    with Session(backend.engine) as session:
        later, more = is_later(session), unfinished(session)
    if later:
        # What this version offers is less than what is there.
        raise Misuse("the database has the schema of a later version: there is nothing that this one could do to it")
    for slug in refresh_own_api(backend, datetime.now(UTC)):
        typer.echo(f"Jamb's own API was brought up to date in {slug}.")
    typer.echo("The schema is current, but for what earlier versions need." if more else "The schema is current.")
    if more:
        typer.echo("When no process of an earlier version runs any more: jamb-service migrate --finish")


@app.command()
def notify() -> None:
    """Find now what is to be told, and send what is due, without waiting for the next round."""
    from jamb.service.runtime import open_runtime
    from jamb.service.work.queue import carry_all, rotate_by_policy

    settings = read_settings()
    set_up_logs(settings.log_level)
    look_before_starting(settings)

    async def run() -> None:
        async with open_runtime(settings) as runtime:
            for slug in notices.directories_to_tell(runtime.backend):
                # One directory that fails holds up no other.
                try:
                    opened = rotate_by_policy(runtime, slug)
                    told = notices.tell(runtime.backend, slug, datetime.now(UTC), whole=True)
                except JambError as error:
                    typer.echo(f"{slug}: {error.message}", err=True)
                    continue
                if opened:
                    typer.echo(f"{slug}: {opened} rotations were opened by policy.")
                typer.echo(f"{slug}: {told.notices} notices, {told.mails} mails, {told.pushes} events are new.")
            await carry_all(runtime)

    asyncio.run(run())


@app.command()
def check() -> None:
    """Look at settings, database and its rights, schema, sealing key, clock, mail, public address and disk."""
    from jamb.service.commands.check import looks

    wrong = 0
    for looked in looks():
        wrong += bool(looked.fault)
        typer.echo(f"{'✗' if looked.fault else '✓'} {looked.name}: {looked.fault or looked.found}")
    if wrong:
        raise typer.Exit(1)


@app.command()
def verify() -> None:
    """Look through all directories, as of a restored copy: ledgers, keys, how much there is, until which moment."""
    from jamb.service.commands.verify import verified

    wrong = 0
    for found in verified(backend_of(read_settings()), datetime.now(UTC)):
        wrong += bool(found.fault)
        what = f"{found.entries} entries in the ledger, {found.clients} clients, {found.people} people"
        last = f"last change {found.until:%Y-%m-%d %H:%M:%S} UTC"
        typer.echo(f"{'✗' if found.fault else '✓'} {found.slug}: {found.fault or f'{what}; {last}'}")
    if wrong:
        raise typer.Exit(1)


@app.command()
def settings() -> None:
    """List the settings. Each comes from the environment, from a file named by NAME_FILE, or from JAMB_SETTINGS."""
    for name, field in Settings.model_fields.items():
        given = field.get_default(call_default_factory=True)
        default = "" if given in (None, "") else f" (default: {given})"
        typer.echo(f"JAMB_{name.upper():<26} {field.description}{default}")


@app.command()
def openapi(target: Annotated[Path, typer.Argument(help="File to write")]) -> None:
    """Write the API's description (OpenAPI 3.1)."""
    from jamb.service.app import create_app

    document = create_app(read_settings()).openapi()
    target.write_text(json.dumps(document, indent=2, ensure_ascii=False) + "\n")


@app.command()
def rules(target: Annotated[Path, typer.Argument(help="File to write")]) -> None:
    """Write what the rules of the audit look for (Markdown)."""
    target.write_text(rules_page(RULES))


def run() -> None:
    """Entry point: our errors are one sentence, not a traceback."""
    try:
        app()
    except JambError as error:
        fields = " ".join(f"{one.field}: {one.sent!r}; allowed: {one.allowed}." for one in error.violations)
        sys.exit(" ".join(filter(None, (f"jamb-service: {error.message.rstrip('.')}.", fields, error.next_step))))
    except OperationalError:
        sys.exit("jamb-service: the database does not answer; check JAMB_DATABASE_URL and that it runs.")
