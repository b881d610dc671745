"""How clients are shown: the list and the dossier."""

from __future__ import annotations

import shlex

from rich.text import Text

from jamb.cli.base.output import (
    fields,
    heading,
    note,
    out,
    relative,
    table,
)
from jamb.cli.credentials import credentials
from jamb.core.clients.clients import OwnerLevel
from jamb.core.clients.next_steps import NextStepKind
from jamb.core.credentials.term import CredentialState
from jamb.core.ladder import UsedState
from jamb.wire.clients.clients import Client, Dossier, Owner, Rung


def _found(one: Client) -> str:
    """Say how many findings a client has, and how bad the worst is."""
    if not one.findings:
        return "—"
    return f"1 {one.worst}" if one.findings == 1 else f"{one.findings}, worst {one.worst}"


def show_list(found: list[Client]) -> None:
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


def owner_words(one: Owner) -> str:
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


def _pages(client: Client) -> list[tuple[str, str]]:
    return [
        ("home page", client.client_uri),
        ("privacy policy", client.policy_uri),
        ("terms of use", client.tos_uri),
        ("logo", client.logo and "it has one"),
    ]


def show_dossier(dossier: Dossier) -> None:
    client = dossier.client
    heading(client.name)
    fields(
        [
            ("client id", client.id),
            ("purpose", client.purpose),
            ("kind, state", f"{client.kind}, {client.state}"),
            ("gets tokens by", ", ".join(grant.words for grant in client.grant_types)),
            ("owners", ", ".join(owner_words(owner) for owner in client.owners) or "nobody"),
            ("registered", f"{relative(client.registered_at)} by {client.registered_by}"),
            ("last use", relative(client.last_used_at)),
            *([("support", client.support_contact)] if client.support_contact else []),
            *[(name, page) for name, page in _pages(client) if page],
            *([("only people in", ", ".join(client.sign_in_groups))] if client.sign_in_groups else []),
            *[("redirect URI", one) for one in client.redirect_uris],
            *[("after sign-out", one) for one in client.post_logout_redirect_uris],
            *([("tells sign-outs to", client.backchannel_logout_uri)] if client.backchannel_logout_uri else []),
        ]
    )
    show_steps(client)
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
        for place in dossier.resources:
            if place.uncounted_until is not None:
                until = f"{place.uncounted_until:%Y-%m-%d %H:%M} UTC"
                out.print(
                    f"{place.resource}: calls before {until} may not have been counted.", markup=False, style="dim"
                )
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


# What does a next step; in capitals what only the reader knows.
_COMMANDS = {
    NextStepKind.ASK: "asks add {client} RESOURCE PERMISSION",
    NextStepKind.CONSENT: "requests make {client} --reason WHY",
    NextStepKind.CREDENTIAL: "secrets issue {client}",
    NextStepKind.REDIRECT: "clients change {client} --redirect ADDRESS",
}


def show_steps(client: Client) -> None:
    if client.next_steps:
        heading("\nNext steps")
        for number, step in enumerate(client.next_steps, 1):
            out.print(f"  {number}. {step.words}", markup=False)
            command = f"jamb {_COMMANDS[step.kind].format(client=shlex.quote(client.name))}"
            # Whole, whatever the width: it is copied.
            out.print(f"     {command}", markup=False, soft_wrap=True, style="cyan")
