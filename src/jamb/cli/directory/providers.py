"""Outside OpenID providers by which people of a directory sign in."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated

import typer

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ReasonOption, read_json
from jamb.cli.base.output import Form, IfMatchOption, Output, YesOption, confirm, emit, fields, out, relative, table
from jamb.client import BadInput
from jamb.wire.directory.providers import SignInProvider

app = typer.Typer(no_args_is_help=True)
NameArgument = Annotated[str, typer.Argument(metavar="NAME", help="Its short name here, as head-office")]
SECRET = "JAMB_PROVIDER_SECRET"  # noqa: S105 - the name of a variable


@app.command("list")
def list_providers(output: Output = Form.TABLE) -> None:
    """List the providers, with what each must know of this directory."""
    with connected() as jamb:
        found = jamb.providers.list()

    def show() -> None:
        rows = [[one.name, one.title, one.issuer, str(one.linked), relative(one.made_at)] for one in found]
        table(["name", "title", "issuer", "people", "made"], rows, right=["people"])
        if found:
            out.print(f"They send people back to {found[0].redirect_uri}", style="dim", markup=False, soft_wrap=True)

    emit(found, output, show)


@app.command()
def save(
    name: NameArgument,
    title: Annotated[str, typer.Option(help="As people know it: Sign in with …")],
    issuer: Annotated[str, typer.Option(help="Its issuer, by https")],
    client_id: Annotated[str, typer.Option(help="By which it knows this directory")],
    with_secret: Annotated[
        bool, typer.Option("--with-secret", help=f"Take the client secret of ${SECRET}, or ask for it")
    ] = False,
    add_people: Annotated[
        bool, typer.Option("--add-people", help="Add whoever it vouches for, without a role")
    ] = False,
    groups_claim: Annotated[str, typer.Option(help="The claim that lists what somebody is in there")] = "groups",
    group: Annotated[
        list[str] | None, typer.Option(metavar="THERE=HERE", help="What of it is which group here; may be given again")
    ] = None,
    reason: ReasonOption = "",
    if_match: IfMatchOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Let people sign in by a provider, or change one; another person must agree, then ask for it again."""
    groups = {}
    for pair in group or ():
        there, equals, here = pair.rpartition("=")
        if not equals or not there or not here:
            raise BadInput.field("--group", pair, "THERE=HERE, as Harbour staff=crew")
        groups[there] = here
    secret = None
    if with_secret:
        secret = os.environ.get(SECRET) or typer.prompt("Client secret", hide_input=True)
    with connected() as jamb:
        made = jamb.providers.save(
            name,
            title=title,
            issuer=issuer,
            client_id=client_id,
            secret=secret,
            adds_people=add_people,
            groups_claim=groups_claim,
            groups=groups,
            reason=reason,
            if_match=if_match,
        )
    emit(made, output, lambda: _show(made))


@app.command()
def remove(name: NameArgument, yes: YesOption = False) -> None:
    """Let nobody sign in by it any more; who did is signed out."""
    confirm(f"Remove {name}? Whoever is signed in by it is signed out.", yes)
    with connected() as jamb:
        jamb.providers.remove(name)
    out.print(f"Nobody signs in by {name} any more.", markup=False)


@app.command("try")
def try_claims(
    name: NameArgument,
    claims: Annotated[Path, typer.Argument(metavar="FILE", help="Claims of an ID token as JSON; - for standard input")],
    output: Output = Form.TABLE,
) -> None:
    """Say whom claims of the provider would mean, and in which groups and roles. Keeps nothing."""
    with connected() as jamb:
        found = jamb.providers.preview(name, read_json("FILE", claims))

    def show() -> None:
        if found.refused:
            out.print(f"Nobody: {found.why}.", markup=False)
            return
        fields(
            [
                ("person", f"{found.login}{', added' if found.added else ''}"),
                ("joins", ", ".join(found.joins) or "no group"),
                ("leaves", ", ".join(found.leaves) or "no group"),
                ("roles then", ", ".join(found.roles) or "none"),
            ]
        )

    emit(found, output, show)


def _show(made: SignInProvider) -> None:
    pairs = [
        ("issuer", made.issuer),
        ("client id there", made.client_id),
        ("secret", "kept, sealed" if made.has_secret else "none"),
        ("redirect URI there", made.redirect_uri),
        ("people", "those who are here, and whoever it vouches for" if made.adds_people else "those who are here"),
        ("groups", ", ".join(f"{there} → {here}" for there, here in made.groups.items()) or "none by it"),
    ]
    out.print(f"People sign in with {made.title}.", markup=False)
    fields(pairs)
