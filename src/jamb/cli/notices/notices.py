"""What people were told, and the webhooks that hear of everything."""

from __future__ import annotations

import itertools
from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.names_and_ids import meant
from jamb.cli.base.options import read_text
from jamb.cli.base.output import Form, Output, YesOption, confirm, emit, note, out, relative, table
from jamb.client import Jamb
from jamb.wire.notices.notices import Notice, Webhook

app = typer.Typer(no_args_is_help=True)
webhooks = typer.Typer(no_args_is_help=True)
WebhookArgument = Annotated[
    str, typer.Argument(metavar="WEBHOOK", help="Its id, how that begins, or its whole address")
]


@app.command("list")
def list_notices(
    find: Annotated[str | None, typer.Option(help="Part of what was told, or of a person's name")] = None,
    limit: Annotated[int, typer.Option(help="How many, the latest first")] = 50,
    output: Output = Form.TABLE,
) -> None:
    """List what people were told, the latest first."""
    with connected() as jamb:
        found = list(itertools.islice(jamb.notices.list(q=find), limit))
    emit(found, output, lambda: _show(found))


@app.command()
def failing(output: Output = Form.TABLE) -> None:
    """List what the service could not do for the directory in its rounds, why, and when it tries again."""
    with connected() as jamb:
        found = jamb.notices.failing_duties()

    def show() -> None:
        if not found:
            out.print("Everything was done in the last round.")
            return
        table(
            ("duty", "since", "failures", "why", "again"),
            ((one.duty, relative(one.since), str(one.failures), one.error, relative(one.again_at)) for one in found),
            right=("failures",),
        )

    emit(found, output, show)


@app.command()
def calendar(
    whole: Annotated[bool, typer.Option("--whole", help="Of the whole directory, not of your own clients")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Make an address at which calendar programs find the ends to come. The one you had before ends."""
    with connected() as jamb:
        feed = jamb.notices.make_calendar(whole=whole)
    emit(feed, output, lambda: out.print(feed.url, markup=False, soft_wrap=True))
    note("Whoever has this address reads it: it shows hints and days, never a secret. Make another to end it.")


@webhooks.command("list")
def list_webhooks(output: Output = Form.TABLE) -> None:
    """List webhooks: what they took, what waits, and what was given up."""
    with connected() as jamb:
        found = jamb.webhooks.list()
    emit(found, output, lambda: _show_webhooks(found))


@webhooks.command()
def add(
    url: Annotated[str, typer.Argument(help="An https address that takes event tokens by POST")],
    key: Annotated[
        Path | None, typer.Option(help="Its public key (JWK or PEM): credentials can be sealed to it")
    ] = None,
    output: Output = Form.TABLE,
) -> None:
    """Let an address hear of everything; it verifies the events with the keys of the directory's metadata."""
    with connected() as jamb:
        made = jamb.webhooks.add(url, key=read_text("--key", key) if key is not None else "")
    emit(made, output, lambda: out.print(f"{made.url} hears of everything from now on.", markup=False))


@webhooks.command()
def remove(webhook: WebhookArgument, yes: YesOption = False, output: Output = Form.TABLE) -> None:
    """Let an address hear of nothing more."""
    with connected() as jamb:
        found = _find(jamb, webhook)
        confirm(f"Remove {found.url}? {found.waiting + found.dead} events that it did not take are dropped.", yes)
        gone = jamb.webhooks.remove(found.id)
    emit(gone, output, lambda: out.print(f"{gone.url} hears of nothing more.", markup=False))


@webhooks.command()
def dead(webhook: WebhookArgument, output: Output = Form.TABLE) -> None:
    """List the events that a webhook did not take after all tries."""
    with connected() as jamb:
        found = jamb.webhooks.dead(_find(jamb, webhook).id)
    rows = [[relative(one.made_at), one.kind, one.words, str(one.tries), one.failed] for one in found]
    emit(found, output, lambda: table(["made", "event", "words", "tries", "why"], rows))


@webhooks.command()
def revive(webhook: WebhookArgument, output: Output = Form.TABLE) -> None:
    """Try the events that were given up anew."""
    with connected() as jamb:
        found = jamb.webhooks.revive(_find(jamb, webhook).id)
    emit(found, output, lambda: out.print(f"{found.waiting} events for {found.url} are tried anew.", markup=False))


def _find(jamb: Jamb, reference: str) -> Webhook:
    return meant(jamb.webhooks.list(), reference, lambda one: {one.url}, noun="webhook", see="jamb webhooks list")


def _show(found: list[Notice]) -> None:
    if not found:
        out.print("Nobody was told anything yet.")
        return
    rows: list[list[str | Text]] = []
    for one in found:
        carried = Text(f"sent {relative(one.sent_at)}" if one.sent_at else "waits for its mail", style="dim")
        if one.failed:
            carried = Text(f"given up: {one.error}", style="red")
        elif one.error and not one.sent_at:
            carried = Text(f"tried, will be again: {one.error}", style="yellow")
        rows.append([relative(one.at), one.person, one.words, carried])
    table(["noted", "person", "what", "mail"], rows)


def _show_webhooks(found: list[Webhook]) -> None:
    if not found:
        out.print("No webhook hears of anything.")
        return
    rows: list[list[str | Text]] = [
        [
            one.url,
            str(one.sent),
            str(one.waiting),
            Text(str(one.dead), style="red" if one.dead else "dim"),
            one.error or "—",
            str(one.id),
        ]
        for one in found
    ]
    table(["address", "taken", "waiting", "given up", "last error", "id"], rows, right=["taken", "waiting", "given up"])
    if any(one.dead for one in found):
        note("See what was given up with `jamb webhooks dead`, and try it anew with `jamb webhooks revive`.")
