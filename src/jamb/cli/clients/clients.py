"""Clients: list, show, register; their attempts and connection sheets."""

from __future__ import annotations

import shlex
from enum import StrEnum
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ReasonOption, moment_of
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    fields,
    heading,
    note,
    out,
    relative,
    table,
)
from jamb.cli.clients import removals
from jamb.cli.credentials import credentials
from jamb.client import Forbidden
from jamb.core.clients.clients import ClientKind, OwnerLevel
from jamb.core.credentials import CredentialState
from jamb.core.ladder import UsedState
from jamb.core.lists import Attention
from jamb.wire.clients.clients import Client, Dossier, Owner, Rung
from jamb.wire.credentials.credentials import Sheet

app = typer.Typer(no_args_is_help=True)


class SheetForm(StrEnum):
    TEXT = "text"
    ENV = "env"
    JSON = "json"
    HTTP = "http"
    CURL = "curl"
    PYTHON = "python"
    JAVASCRIPT = "javascript"


RedirectOption = Annotated[
    list[str] | None, typer.Option(help="Where answers for people may be sent, exactly; may be given again")
]
SupportOption = Annotated[str, typer.Option("--support", help="Where its users get help: mail address or https page")]
PublisherOption = Annotated[str, typer.Option(help="Domain of whoever makes it, if that is somebody else")]
app.command()(removals.remove)
app.command()(removals.restore)
app.command()(removals.removed)


@app.command("list")
def list_clients(
    find: Annotated[
        str | None, typer.Option(help="Part of the name or purpose, a secret's hint, or a thumbprint")
    ] = None,
    attention: Annotated[Attention | None, typer.Option(help="Only clients that need this")] = None,
    sort: Annotated[str, typer.Option(help="name, registered, expiry or used")] = "name",
    output: Output = Form.TABLE,
) -> None:
    """List clients with asked, granted, used, next expiry and findings."""
    with connected() as jamb:
        found = list(jamb.clients.list(q=find, attention=attention, sort=sort))
    emit(found, output, lambda: _show_list(found))


@app.command()
def register(
    name: Annotated[str, typer.Option(help="A name no other client has")],
    purpose: Annotated[str, typer.Option(help="What it is for, in a sentence")],
    owner: Annotated[list[str] | None, typer.Option(help="Login of an owner; may be given again")] = None,
    kind: Annotated[
        ClientKind, typer.Option(help="service: acts as itself. native: for people, from a device")
    ] = ClientKind.SERVICE,
    redirect: RedirectOption = None,
    publisher: PublisherOption = "",
    support: SupportOption = "",
    trial_until: Annotated[str | None, typer.Option(help="Let it in on trial, until this day or moment")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Register a client and say next steps. Whoever may not learns whom to ask."""
    with connected() as jamb:
        allowed = jamb.registering()
        if not allowed.allowed and jamb.whoami().kind == "person":
            ask = ", ".join(allowed.ask) or "a steward"
            raise Forbidden(f"You may not register clients here. {allowed.why}", next_step=f"Ask {ask}.")
        made = jamb.clients.register(
            name,
            purpose,
            kind=kind,
            owners=owner or [],
            redirect_uris=redirect or [],
            publisher=publisher,
            support_contact=support,
            trial_ends_at=moment_of("--trial-until", trial_until),
        )

    def show() -> None:
        out.print(f"Registered “{made.name}”.", markup=False)
        fields([("client id", made.id), ("owners", ", ".join(one.name for one in made.owners) or "nobody yet")])
        _show_steps(made)

    emit(made, output, show)


@app.command()
def show(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """Show one client: its ladder, credentials and findings."""
    with connected() as jamb:
        dossier = jamb.clients.read(jamb.clients.find(client).id)
    emit(dossier, output, lambda: _show_dossier(dossier))


@app.command()
def change(
    client: ClientArgument,
    name: Annotated[str | None, typer.Option(help="Another name")] = None,
    purpose: Annotated[str | None, typer.Option(help="What it is for, in a sentence")] = None,
    redirect: RedirectOption = None,
    no_redirects: Annotated[bool, typer.Option("--no-redirects", help="Take all redirect URIs off")] = False,
    publisher: Annotated[str | None, typer.Option(help="Domain of whoever makes it; empty: this organisation")] = None,
    support: Annotated[
        str | None, typer.Option(help="Where its users get help: mail address or https page; empty: nobody is named")
    ] = None,
    trial_until: Annotated[str | None, typer.Option(help="On trial until this day or moment")] = None,
    no_trial: Annotated[bool, typer.Option("--no-trial", help="It stays for good")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Change what a registration says; what is not named stays."""
    with connected() as jamb:
        done = jamb.clients.change(
            jamb.clients.find(client).id,
            name=name,
            purpose=purpose,
            redirect_uris=[] if no_redirects else redirect,
            publisher=publisher,
            support_contact=support,
            trial_ends_at=moment_of("--trial-until", trial_until),
            no_trial=no_trial,
        )
    emit(done, output, lambda: out.print(f"“{done.name}”: {done.purpose}", markup=False))


@app.command()
def owners(
    client: ClientArgument,
    add: Annotated[list[str] | None, typer.Option(help="Login of a new owner; may be given again")] = None,
    remove: Annotated[list[str] | None, typer.Option(help="Login of an owner to take off; may be given again")] = None,
    level: Annotated[
        OwnerLevel, typer.Option(help="Of those added. edit: asks, no owners or secrets. read: sees it")
    ] = OwnerLevel.FULL,
    output: Output = Form.TABLE,
) -> None:
    """Add and remove owners, in one step: that is also how a client is handed over."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        if add or remove:
            found = jamb.clients.change_owners(found.id, add=add or [], remove=remove or [], level=level)
    names = ", ".join(_owner(owner) for owner in found.owners) or "nobody"
    emit(found, output, lambda: out.print(f"“{found.name}” is owned by {names}.", markup=False))


@app.command()
def disable(
    client: ClientArgument, reason: ReasonOption = "", yes: YesOption = False, output: Output = Form.TABLE
) -> None:
    """Disable a client: it gets no tokens, and those it holds are revoked."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        confirm(f"Disable “{found.name}” (last use {relative(found.last_used_at)})?", yes)
        changed = jamb.clients.disable(found.id, reason=reason)
    emit(changed, output, lambda: out.print(f"“{changed.name}” is disabled.", markup=False))


@app.command()
def enable(client: ClientArgument, reason: ReasonOption = "", output: Output = Form.TABLE) -> None:
    """Enable a client again. Its tokens from before stay revoked."""
    with connected() as jamb:
        changed = jamb.clients.enable(jamb.clients.find(client).id, reason=reason)
    emit(changed, output, lambda: out.print(f"“{changed.name}” is live.", markup=False))


@app.command("revoke-tokens")
def revoke_tokens(
    client: ClientArgument, reason: ReasonOption = "", yes: YesOption = False, output: Output = Form.TABLE
) -> None:
    """Have every token that a client holds refused, by guarded APIs within seconds; new ones count."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        confirm(f"Cut off the tokens of “{found.name}”?", yes)
        done = jamb.clients.revoke_tokens(found.id, reason=reason)
    said = f"Tokens until {done.at:%H:%M:%S} UTC are refused; {done.live_tokens} of them had not run out."
    emit(done, output, lambda: out.print(said, markup=False))


@app.command()
def refusals(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """List the calls that protected APIs refused, latest first; `jamb explain` says why in full."""
    with connected() as jamb:
        found = jamb.clients.find(client)
        rows = list(jamb.clients.refusals(found.id))

    def show_rows() -> None:
        if not rows:
            out.print("No call was refused.")
        for row in rows:
            to = f" to {row.object}" if row.object else ""
            line = f"{relative(row.last_at)}  {row.calls} × {row.operation}{to}: {row.reason}"
            out.print(Text("✗ ", style="red").append(line, style="default"))
            command = ["jamb", "explain", found.id, row.operation, "--resource", row.resource]
            command += ["--object", row.object] if row.object else []
            out.print(f"    {shlex.join(command)}", style="cyan", markup=False)

    emit(rows, output, show_rows)


@app.command()
def sheet(
    client: ClientArgument,
    form: Annotated[SheetForm, typer.Option(help="How to print it")] = SheetForm.TEXT,
) -> None:
    """Print the connection sheet, without the secret (which is shown only when it is issued)."""
    with connected() as jamb:
        sheets = jamb.clients.sheets(jamb.clients.find(client).id)
    print_sheets(list(sheets), form)


@app.command()
def attempts(
    client: ClientArgument,
    failed: Annotated[bool, typer.Option("--failed", help="Only those that failed")] = False,
    limit: Annotated[int, typer.Option(min=1, help="How many at the most")] = 20,
    output: Output = Form.TABLE,
) -> None:
    """List token requests, newest first, with what to do about failures."""
    with connected() as jamb:
        found = jamb.clients.attempts(jamb.clients.find(client).id, failed=failed)
        rows = [attempt for attempt, _ in zip(found, range(limit), strict=False)]

    def show_rows() -> None:
        if not rows:
            out.print("No token requests yet." if not failed else "No token request failed.")
        for row in rows:
            good = row.outcome == "issued"
            mark = Text("✓ ", style="green") if good else Text("✗ ", style="red")
            times = f"  {row.times} times within a minute" if row.times > 1 else ""
            out.print(mark.append(f"{relative(row.at)}  {row.outcome}  {row.hint}{times}", style="default"))
            out.print(f"    {row.detail}", markup=False)
            if row.remedy:
                out.print(f"    → {row.remedy}", markup=False)
            out.print(
                f"    from {row.address or 'unknown'} by {row.user_agent or 'unnamed'}", style="dim", markup=False
            )

    emit(rows, output, show_rows)


def print_sheets(sheets: list[Sheet], form: SheetForm) -> None:
    for place, one in enumerate(sheets):
        if place:
            print()
        print(one.forms[form])


def _found(one: Client) -> str:
    """Say how many findings a client has, and how bad the worst is."""
    if not one.findings:
        return "—"
    return f"1 {one.worst}" if one.findings == 1 else f"{one.findings}, worst {one.worst}"


def _show_list(found: list[Client]) -> None:
    table(
        ["client", "asked/granted/used", "credential", "last use", "owners", "findings"],
        [
            [
                one.name,
                f"{one.ladder.asked}/{one.ladder.granted}/{one.ladder.used}",
                _secret(one),
                relative(one.last_used_at),
                _owners(one),
                _found(one),
            ]
            for one in found
        ],
        right=["asked/granted/used"],
    )
    note(f"{len(found)} client{'' if len(found) == 1 else 's'}; every command takes the name or the id (see show)")


def _owner(one: Owner) -> str:
    return one.name if one.level is OwnerLevel.FULL else f"{one.name} ({one.level})"


def _owners(one: Client) -> Text:
    if not one.owners:
        return Text("nobody", style="red")
    more = f" and {len(one.owners) - 1} more" if len(one.owners) > 1 else ""
    return Text(one.owners[0].name + more)


def _secret(one: Client) -> Text:
    if one.credential_state is None:
        return Text("none", style="dim")
    style = credentials.STYLE[one.credential_state]
    if one.credential_state is CredentialState.EXPIRED:
        return Text("expired", style=style)
    if one.credential_state in {CredentialState.DISABLED, CredentialState.COMING}:
        return Text(one.credential_state, style=style)
    return (
        Text(f"expires {relative(one.next_expiry)}", style=style)
        if one.next_expiry
        else Text("no expiry", style="yellow")
    )


def _show_dossier(dossier: Dossier) -> None:
    client = dossier.client
    heading(client.name)
    fields(
        [
            ("client id", client.id),
            ("purpose", client.purpose),
            ("kind, state", f"{client.kind}, {client.state}"),
            ("owners", ", ".join(_owner(owner) for owner in client.owners) or "nobody"),
            ("registered", f"{relative(client.registered_at)} by {client.registered_by}"),
            ("last use", relative(client.last_used_at)),
            *([("support", client.support_contact)] if client.support_contact else []),
        ]
    )
    _show_steps(client)
    if dossier.resources:
        heading("\nLadder")
        rows: list[list[str | Text]] = []
        for place in dossier.resources:
            for rung in place.rungs:
                granted: str | Text = relative(rung.granted_at, "")
                if rung.granted_at is None:
                    granted = Text("not granted", style="yellow")
                rows.append(
                    [
                        place.resource,
                        rung.permission,
                        "as itself" if rung.kind == "application" else "for people",
                        relative(rung.asked_at, "not asked"),
                        granted,
                        _reach(rung),
                        _used(rung),
                    ]
                )
        table(["resource", "permission", "acting", "asked", "granted", "reach", "used"], rows)
    if dossier.credentials:
        heading("\nCredentials")
        credentials.show(dossier.credentials)
    if dossier.findings:
        heading("\nFindings")
        for finding in dossier.findings:
            out.print(f"{finding.severity}: {finding.title}. {finding.remedy}", markup=False)


def _reach(rung: Rung) -> str:
    """Return where it counts, and by which role or for whom where that is not plain consent for everyone."""
    parts = []
    for held in rung.holdings:
        way = f" by the role {held.through}" if held.through else f" for {held.person}" if held.person else ""
        parts.append(held.reach.words + way)
    return "; ".join(parts) or "—"


def _used(rung: Rung) -> str | Text:
    if rung.used is UsedState.USED:
        return relative(rung.last_used_at)
    if rung.used is UsedState.NEVER:
        return Text("never", style="red")
    if rung.used is UsedState.LAPSED:
        return Text(f"not since {relative(rung.last_used_at)}", style="red")
    return "too early to say" if rung.used is UsedState.TOO_EARLY else "—"


def _show_steps(client: Client) -> None:
    if client.next_steps:
        heading("\nLeft to do")
        for number, step in enumerate(client.next_steps, 1):
            out.print(f"  {number}. {step}", markup=False)


__all__ = ["SheetForm", "app", "print_sheets"]
