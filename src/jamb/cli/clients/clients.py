"""Clients: list, show, register; their attempts and connection sheets."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ReasonOption, moment_of
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    IfMatchOption,
    Output,
    YesOption,
    confirm,
    emit,
    fields,
    out,
    relative,
)
from jamb.cli.clients import attempts, removals, sheets
from jamb.cli.clients.showing import owner_words, show_dossier, show_list, show_steps
from jamb.client import BadInput, Forbidden
from jamb.core.clients.clients import ClientKind, GrantType, OwnerLevel
from jamb.core.clients.logos import LARGEST
from jamb.core.lists import Attention
from jamb.core.nearest_names import as_written, did_you_mean

app = typer.Typer(no_args_is_help=True)


RedirectOption = Annotated[
    list[str] | None, typer.Option(help="Where answers for people may be sent, exactly; may be given again")
]
AfterOption = Annotated[
    list[str] | None,
    typer.Option("--after-sign-out", help="Where people may be sent when they signed out; may be given again"),
]
TellOption = Annotated[
    str | None,
    typer.Option("--tell-sign-outs", help="Where it is told that somebody signed out; empty: nowhere"),
]
GroupOption = Annotated[
    list[str] | None, typer.Option("--only-group", help="Only people of this group may sign in; may be given again")
]
SupportOption = Annotated[str, typer.Option("--support", help="Where its users get help: mail address or https page")]
HomeOption = Annotated[str | None, typer.Option("--home-page", help="Page about it, by https; empty: none")]
PolicyOption = Annotated[str | None, typer.Option("--privacy-policy", help="Page by https; empty: none")]
TermsOption = Annotated[str | None, typer.Option("--terms-of-use", help="Page by https; empty: none")]
GrantTypeOption = Annotated[
    list[str] | None,
    typer.Option(
        "--grant-type",
        help="It gets tokens by this one alone, as device_code; may be given again. Else: all of its kind",
    ),
]
PublisherOption = Annotated[str, typer.Option(help="Domain of whoever makes it, if that is somebody else")]
app.command()(removals.remove)
app.command()(removals.restore)
app.command()(removals.removed)
app.command()(sheets.sheet)
app.command()(attempts.refusals)
app.command()(attempts.attempts)


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
    emit(found, output, lambda: show_list(found))


@app.command()
def register(
    name: Annotated[str, typer.Option(help="A name no other client has")],
    purpose: Annotated[str, typer.Option(help="What it is for, in a sentence")],
    owner: Annotated[list[str] | None, typer.Option(help="Login of an owner; may be given again")] = None,
    kind: Annotated[
        ClientKind,
        typer.Option(
            help="service: acts as itself. For people: web (a server), browser, native (a phone), device (shows a code)"
        ),
    ] = ClientKind.SERVICE,
    redirect: RedirectOption = None,
    after_sign_out: AfterOption = None,
    tell_sign_outs: TellOption = None,
    only_group: GroupOption = None,
    publisher: PublisherOption = "",
    support: SupportOption = "",
    home_page: HomeOption = None,
    privacy_policy: PolicyOption = None,
    terms_of_use: TermsOption = None,
    grant_type: GrantTypeOption = None,
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
            post_logout_redirect_uris=after_sign_out or [],
            backchannel_logout_uri=tell_sign_outs or "",
            sign_in_groups=only_group or [],
            publisher=publisher,
            support_contact=support,
            client_uri=home_page or "",
            policy_uri=privacy_policy or "",
            tos_uri=terms_of_use or "",
            grant_types=_grant_types(grant_type or []),
            trial_ends_at=moment_of("--trial-until", trial_until),
        )

    def show() -> None:
        out.print(f"Registered “{made.name}”.", markup=False)
        fields([("client id", made.id), ("owners", ", ".join(one.name for one in made.owners) or "nobody yet")])
        show_steps(made)

    emit(made, output, show)


@app.command()
def show(client: ClientArgument, output: Output = Form.TABLE) -> None:
    """Show one client: its ladder, credentials and findings."""
    with connected() as jamb:
        dossier = jamb.clients.read(jamb.clients.find(client).id)
    emit(dossier, output, lambda: show_dossier(dossier))


@app.command()
def change(
    client: ClientArgument,
    name: Annotated[str | None, typer.Option(help="Another name")] = None,
    purpose: Annotated[str | None, typer.Option(help="What it is for, in a sentence")] = None,
    redirect: RedirectOption = None,
    no_redirects: Annotated[bool, typer.Option("--no-redirects", help="Take all redirect URIs off")] = False,
    after_sign_out: AfterOption = None,
    tell_sign_outs: TellOption = None,
    only_group: GroupOption = None,
    everybody: Annotated[bool, typer.Option("--everybody", help="Whoever is in the directory may sign in")] = False,
    publisher: Annotated[str | None, typer.Option(help="Domain of whoever makes it; empty: this organisation")] = None,
    support: Annotated[
        str | None, typer.Option(help="Where its users get help: mail address or https page; empty: nobody is named")
    ] = None,
    home_page: HomeOption = None,
    privacy_policy: PolicyOption = None,
    terms_of_use: TermsOption = None,
    grant_type: GrantTypeOption = None,
    every_grant_type: Annotated[
        bool, typer.Option("--every-grant-type", help="By all grant types of its kind again")
    ] = False,
    logo: Annotated[
        Path | None, typer.Option(help="File with its logo: PNG, JPEG or WEBP", exists=True, dir_okay=False)
    ] = None,
    no_logo: Annotated[bool, typer.Option("--no-logo", help="Take its logo off")] = False,
    trial_until: Annotated[str | None, typer.Option(help="On trial until this day or moment")] = None,
    no_trial: Annotated[bool, typer.Option("--no-trial", help="It stays for good")] = False,
    if_match: IfMatchOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Change what a registration says; what is not named stays."""
    with connected() as jamb:
        done = jamb.clients.change(
            jamb.clients.find(client).id,
            if_match=if_match,
            name=name,
            purpose=purpose,
            redirect_uris=[] if no_redirects else redirect,
            post_logout_redirect_uris=[] if no_redirects and after_sign_out is None else after_sign_out,
            backchannel_logout_uri=tell_sign_outs,
            sign_in_groups=[] if everybody else only_group,
            publisher=publisher,
            support_contact=support,
            client_uri=home_page,
            policy_uri=privacy_policy,
            tos_uri=terms_of_use,
            grant_types=[] if every_grant_type else _grant_types(grant_type or []) or None,
            trial_ends_at=moment_of("--trial-until", trial_until),
            no_trial=no_trial,
            logo=b"" if no_logo else _picture(logo) if logo else None,
        )
    emit(done, output, lambda: out.print(f"“{done.name}”: {done.purpose}", markup=False))


def _picture(file: Path) -> bytes:
    """Return what a file holds. Raises `BadInput` for one that is too large to be a logo."""
    size = file.stat().st_size
    if size > LARGEST:
        tried = "Scale the picture down, and try again."
        raise BadInput.field("logo", f"{size:,} bytes", f"at most {LARGEST:,} bytes", tried)
    return file.read_bytes()


def _grant_types(words: list[str]) -> list[GrantType]:
    """Return the grant types that are meant, each by its name, or by its last part alone. Raises `BadInput`."""
    known = {grant_type.value.rpartition(":")[2]: grant_type for grant_type in GrantType}
    found = []
    for word in words:
        name = as_written(word.rpartition(":")[2], known)
        if name not in known:
            raise BadInput.field("--grant-type", word, f"one of {', '.join(known)}", did_you_mean(word, known, ""))
        found.append(known[name])
    return found


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
    names = ", ".join(owner_words(owner) for owner in found.owners) or "nobody"
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
