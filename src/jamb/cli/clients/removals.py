"""Removing clients that nobody needs, and restoring them; publishers for which somebody answers."""

from __future__ import annotations

from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ReasonOption
from jamb.cli.base.output import ClientArgument, Form, Output, YesOption, confirm, emit, in_short, out, relative, table
from jamb.cli.base.progress import progress
from jamb.client import BadInput, Jamb, JambError, NotFound
from jamb.wire.clients.removals import RemovalPreview, Removed

publishers = typer.Typer(no_args_is_help=True)
_AT_ONCE = 200


def remove(
    client: Annotated[list[str], typer.Argument(metavar="CLIENT…", help="Client ids or whole names")],
    reason: ReasonOption = "",
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Say what would go along, and remove nothing")] = False,
    disable_first: Annotated[
        bool,
        typer.Option("--disable-first", help="Disable those that are live, and withdraw credentials, on the way"),
    ] = False,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Remove disabled clients whose credentials are dead; they can be restored for a while.

    A client that is disabled for some days first shows whether somebody misses it.
    """
    with connected() as jamb:
        ids = [jamb.clients.find(one).id for one in client]
        seen = [
            one
            for start in range(0, len(ids), _AT_ONCE)
            for one in jamb.removals.preview(ids[start : start + _AT_ONCE])
        ]
        if dry_run:
            emit(seen, output, lambda: _show_previews(seen))
            return
        if output is Form.TABLE:
            _show_previews(seen)
        ready = [one for one in seen if not one.against or (disable_first and not one.lasting)]
        if not ready:
            raise BadInput(
                "None of these can be removed yet.",
                next_step="Do first what stands against it, or let --disable-first do it.",
            )
        confirm(_question(ready, len(seen)), yes)
        done, failed = _carry_out(jamb, ready, reason)

    def show_done() -> None:
        until = f", restorable until {done[0].restore_until:%Y-%m-%d}" if done else ""
        out.print(f"Removed {len(done)}{until}.", markup=False)
        for name, why in failed:
            out.print(f"  {name}: {why}", markup=False)

    emit(done, output, show_done)
    if failed or len(ready) < len(seen):
        raise typer.Exit(2)


def _carry_out(jamb: Jamb, ready: list[RemovalPreview], reason: str) -> tuple[list[Removed], list[tuple[str, str]]]:
    """Remove clients one by one; return what was removed, and what was not, by name with the cause."""
    done, failed = [], []
    with progress() as bar:
        for one in bar.track(ready, description="removing"):
            try:
                if one.disabled_since is None:
                    jamb.clients.disable(one.client_id, reason=reason)
                for credential in one.credentials:
                    jamb.credentials.withdraw(one.client_id, credential.id, reason=reason)
                done.append(jamb.removals.remove(one.client_id, reason=reason))
            except JambError as error:
                failed.append((one.name, in_short(error)))
    return done, failed


def _question(ready: list[RemovalPreview], seen: int) -> str:
    live = sum(one.disabled_since is None for one in ready)
    standing = sum(len(one.credentials) for one in ready)
    before = [f"disable {live}"] * bool(live)
    before += [f"withdraw {standing} credential{'s' if standing > 1 else ''}"] * bool(standing)
    said = f"{', '.join(before)} and " if before else ""
    return f"{said}remove {len(ready)} of {seen}?".capitalize()


def restore(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """Restore a removed client, disabled, with the consents and roles it had."""
    wanted = client.strip().casefold()
    with connected() as jamb:
        found = [
            one for one in jamb.removals.list(q=client.strip()[:100]) if wanted in {one.client_id, one.name.casefold()}
        ]
        if not found:
            raise NotFound(f"No removed client “{client}” is known.", next_step="See `jamb clients removed`.")
        done = jamb.removals.restore(found[0].client_id)
    emit(done, output, lambda: out.print(f"“{done.name}” is back, disabled: enable it and add a credential."))


def removed(
    find: Annotated[str | None, typer.Option(help="Part of the name, or how a client id begins")] = None,
    output: Output = Form.TABLE,
) -> None:
    """List removed clients, the latest first."""
    with connected() as jamb:
        found = list(jamb.removals.list(q=find))

    def show() -> None:
        table(
            ["id", "name", "removed", "by", "restorable", "held"],
            [
                [
                    one.client_id,
                    one.name,
                    relative(one.removed_at),
                    one.removed_by,
                    relative(one.restore_until),
                    ", ".join([*one.consents, *one.roles]) or "nothing",
                ]
                for one in found
            ],
        )

    emit(found, output, show)


@publishers.command("list")
def list_publishers(output: Output = Form.TABLE) -> None:
    """List publishers for which somebody answers."""
    with connected() as jamb:
        found = jamb.publishers.list()
    columns = ["domain", "by", "since", "why"]
    rows = [[one.domain, one.vouched_by, relative(one.vouched_at), one.reason] for one in found]
    emit(found, output, lambda: table(columns, rows))


@publishers.command()
def vouch(
    domain: Annotated[str, typer.Argument(metavar="DOMAIN", help="Of the publisher, as brisling.example")],
    reason: Annotated[str, typer.Option(help="Why they are known here")],
    output: Output = Form.TABLE,
) -> None:
    """Answer for a publisher."""
    with connected() as jamb:
        done = jamb.publishers.vouch(domain, reason=reason)
    emit(done, output, lambda: out.print(f"{done.vouched_by} vouches for {done.domain}.", markup=False))


@publishers.command()
def disown(domain: Annotated[str, typer.Argument(metavar="DOMAIN")], yes: YesOption = False) -> None:
    """Answer for a publisher no more; the audit shows its clients."""
    confirm(f"Vouch for {domain} no more?", yes)
    with connected() as jamb:
        jamb.publishers.disown(domain)
    out.print(f"Nobody vouches for {domain}.", markup=False)


def _show_previews(seen: list[RemovalPreview]) -> None:
    for one in seen:
        out.print(one.name, style="bold", markup=False)
        last = f"last token {relative(one.last_used_at)}" if one.last_used_at else "never got a token"
        owned = ", ".join(one.owners) or "nobody"
        since = f"disabled {relative(one.disabled_since)}; " if one.disabled_since else ""
        out.print(f"  {since}{last}; owned by {owned}", markup=False)
        for title, rows in (
            ("ends", [*one.consents, *one.roles]),
            ("first", one.against),
            ("named elsewhere by", one.elsewhere),
        ):
            for row in rows:
                out.print(f"  {title}: {row}", markup=False)
