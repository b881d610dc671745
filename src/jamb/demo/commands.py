"""Commands of the demo that the command line mounts: `jamb demo estate`."""

from __future__ import annotations

import json
from datetime import UTC, datetime
from pathlib import Path
from typing import Annotated

import typer

app = typer.Typer(help="Made-up records to try things on; never in a database that is used.", no_args_is_help=True)


@app.callback()
def _demo() -> None:
    """A group, though it has one command."""


@app.command()
def estate(
    clients: Annotated[int, typer.Option(min=1, max=1_000_000, help="How many clients")] = 1000,
    seed: Annotated[int, typer.Option(min=0, help="The same seed gives the same estate")] = 1,
    directory: Annotated[str, typer.Option(help="Short name of the directory to make; default estate-SEED")] = "",
    days: Annotated[int, typer.Option(min=1, max=365, help="On how many days each client was used")] = 100,
    save: Annotated[Path | None, typer.Option(help="Write what is planted to this file, a finding a line")] = None,
) -> None:
    """Make a directory of made-up clients with faults planted in it, which the audit must find, and nothing else.

    Into the database of JAMB_DATABASE_URL or, without it, of the demo of JAMB_HOME and JAMB_PORT, which must run.
    """
    # Half a second, which whoever only lists commands does not wait for.
    from jamb.actions.base.backend import Backend
    from jamb.demo.cluster import Cluster
    from jamb.demo.estate import load_estate, plan_estate
    from jamb.demo.home import demo_home
    from jamb.service.config.sealing import sealer_for
    from jamb.service.config.settings import read_settings
    from jamb.store.connections.engine import make_engine

    settings = read_settings()
    if settings.database_url is None:
        settings.home = demo_home(settings)
        url = Cluster(settings.home, settings.port + 2).url
    else:
        url = settings.database_url.get_secret_value()
    engine = make_engine(url)
    backend = Backend(engine, sealer_for(settings, engine, datetime.now(UTC)), settings.base_url, clock=None)
    plan = plan_estate(clients, seed)
    slug = directory or f"estate-{seed}"
    load_estate(backend, url, slug, plan, datetime.now(UTC), days)
    engine.dispose()
    if save is not None:
        lines = (
            json.dumps({"client_id": one.client_id, "rule": one.rule, "subject": one.subject})
            for one in sorted(plan.planted)
        )
        save.write_text("\n".join(lines) + "\n")
    print(f"{slug}: {clients} clients, {len(plan.planted)} faults planted.")
