"""Consent: see what it would make possible, grant within bounds, change the bounds, end it."""

from __future__ import annotations

from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import (
    ChosenOption,
    DelegatedOption,
    ExceptOption,
    OnlyOption,
    ReasonOption,
    ResourceArgument,
    UntilOption,
    chosen_asks,
    kind_of,
    moment_of,
    reach_by_resource,
    reach_of,
)
from jamb.cli.base.output import (
    ClientArgument,
    Form,
    Output,
    YesOption,
    confirm,
    emit,
    heading,
    note,
    out,
    plural,
    relative,
    table,
)
from jamb.client import BadInput
from jamb.wire.consent.consent import ConsentAtResource, ConsentPreview, DirectoryGrant, Grant, ReachPreview, Terms
from jamb.wire.resources.reach import ReachSent

app = typer.Typer(no_args_is_help=True)
PersonOption = Annotated[str | None, typer.Option(help="Only for this person (login); delegated permissions")]
WithinOption = Annotated[
    list[str] | None, typer.Option("--in", help="RESOURCE:COLLECTION, only there; may be given again")
]
OutsideOption = Annotated[
    list[str] | None, typer.Option("--except", help="RESOURCE:COLLECTION, all but that; may be given again")
]


@app.command("list")
def list_consents(
    client: Annotated[
        str | None, typer.Argument(metavar="[CLIENT]", help="Name or id of a client; without: all of the directory")
    ] = None,
    find: Annotated[str | None, typer.Option(help="Part of the client, the permission or the person")] = None,
    resource: Annotated[str | None, typer.Option(help="Only at this resource")] = None,
    permission: Annotated[
        str | None, typer.Option(help="Only this permission, as [RESOURCE:]PERMISSION", metavar="PERMISSION")
    ] = None,
    delegated: Annotated[
        bool | None, typer.Option("--delegated/--itself", help="Only for people, or as itself")
    ] = None,
    bounded: Annotated[
        bool | None, typer.Option("--bounded/--unbounded", help="Only those that count for some objects, or for all")
    ] = None,
    by_people: Annotated[bool, typer.Option("--by-people", help="Only those that people gave for themselves")] = False,
    expires_before: Annotated[str | None, typer.Option(help="Only those that expire before this day or moment")] = None,
    output: Output = Form.TABLE,
) -> None:
    """List the consents in force of one client, or of the whole directory: those granted last first."""
    narrowed = any(said is not None for said in (find, resource, permission, delegated, bounded, expires_before))
    if client is not None and (narrowed or by_people):
        allowed = "a client, or options that narrow the list of the directory"
        raise BadInput.field("CLIENT", client, allowed, "Give one or the other; --find takes a part of its name.")
    if client is None:
        if permission is not None and ":" in permission:
            named, _, permission = permission.rpartition(":")
            if resource not in {None, named}:
                allowed = f"a permission of {resource}, which --resource names"
                raise BadInput.field("--permission", f"{named}:{permission}", allowed, "Name one resource.")
            resource = named
        with connected() as jamb:
            everywhere = list(
                jamb.consent.all(
                    q=find,
                    resource=resource,
                    permission=permission,
                    kind=kind_of(delegated) if delegated is not None else None,
                    bounded=bounded,
                    by_person=True if by_people else None,
                    expires_before=moment_of("--expires-before", expires_before),
                )
            )
        emit(everywhere, output, lambda: _show_all(everywhere))
        return
    with connected() as jamb:
        found = list(jamb.consent.list(jamb.clients.find(client).id))
    emit(
        found,
        output,
        lambda: table(_COLUMNS, [_cells(one) for one in found]),
    )


_COLUMNS = ["resource", "permission", "kind", "for", "reach", "since", "until"]


def _cells(one: Grant) -> list[str]:
    return [
        one.resource,
        one.permission,
        one.kind,
        (one.person or "everyone") + (", by themselves" if one.by_person else ""),
        one.reach.words,
        f"{relative(one.granted_at)} by {one.granted_by}",
        relative(one.expires_at, "no expiry"),
    ]


def _show_all(found: list[DirectoryGrant]) -> None:
    if not found:
        note("No consent is in force that is like this.")
        return
    table(["client", *_COLUMNS], [[one.client_name, *_cells(one)] for one in found])
    note(f"{len(found)} {'consent' if len(found) == 1 else 'consents'}")


@app.command()
def preview(
    client: ClientArgument,
    within: WithinOption = None,
    outside: OutsideOption = None,
    person: PersonOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Show what consent to the waiting asks would newly make possible, and over how much. Changes nothing."""
    terms = Terms(reach=reach_by_resource(within, outside), person=person)
    with connected() as jamb:
        found = jamb.consent.preview(jamb.clients.find(client).id, terms=terms)
    emit(found, output, lambda: show_preview(found))


@app.command()
def grant(
    client: ClientArgument,
    only: ChosenOption = None,
    delegated: DelegatedOption = False,
    within: WithinOption = None,
    outside: OutsideOption = None,
    until: UntilOption = None,
    person: PersonOption = None,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Consent to what waits, after showing what it makes possible."""
    terms = Terms(reach=reach_by_resource(within, outside), expires_at=moment_of("--until", until), person=person)
    with connected() as jamb:
        client_id = jamb.clients.find(client).id
        found = jamb.consent.preview(client_id, terms=None if only else terms)
        if only:
            found = jamb.consent.preview(client_id, asks=chosen_asks(found, only, delegated=delegated), terms=terms)
        waiting = [ask.id for place in found.resources for ask in place.asks]
        if waiting and output is Form.TABLE:
            show_preview(found)
            confirm(f"Grant {len(waiting)} permission{'' if len(waiting) == 1 else 's'} to “{found.client_name}”?", yes)
        # What was shown is what is granted: an ask that arrived meanwhile waits for its own look.
        made = list(jamb.consent.grant(found.client_id, asks=waiting or None, terms=terms, reason=reason))
    names = ", ".join(
        one.permission + ("" if one.reach.words == "everywhere" else f" ({one.reach.words})") for one in made
    )
    emit(made, output, lambda: out.print(Text(f"Granted: {names}.", style="green")))


@app.command()
def decline(
    client: ClientArgument,
    reason: Annotated[str, typer.Option(help="Why, for whoever asked")],
    only: ChosenOption = None,
    delegated: DelegatedOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Decline what waits for consent: the asks go, and the client's history says why."""
    with connected() as jamb:
        client_id = jamb.clients.find(client).id
        asks = chosen_asks(jamb.consent.preview(client_id), only, delegated=delegated) if only else None
        declined = jamb.consent.decline(client_id, asks=asks, reason=reason)
    names = ", ".join(one.permission for one in declined)
    emit(declined, output, lambda: out.print(f"Declined: {names}.", markup=False))


@app.command()
def reach(
    client: ClientArgument,
    resource: ResourceArgument,
    permissions: Annotated[list[str], typer.Argument(metavar="PERMISSION...", help="Granted permissions")],
    only: OnlyOption = None,
    all_but: ExceptOption = None,
    everywhere: Annotated[bool, typer.Option("--everywhere", help="Without any bound")] = False,
    delegated: DelegatedOption = False,
    person: PersonOption = None,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Change where granted permissions count, after showing what that adds. Tokens from before are bounded too."""
    wanted = reach_of(only, all_but)
    if (wanted is None) is not everywhere:
        raise BadInput.field("--in", "nothing" if wanted is None else "both", "one of --in, --except and --everywhere")
    with connected() as jamb:
        found = jamb.clients.find(client)
        reach, kind = wanted or ReachSent(collections=[]), kind_of(delegated)
        if output is Form.TABLE:
            seen = jamb.consent.preview_reach(found.id, resource, permissions, reach, kind=kind, person=person)
            # What only narrows takes nothing to think over.
            if seen.newly or seen.wider:
                _show_wider(seen)
                confirm(f"Let {', '.join(permissions)} of “{found.name}” count so?", yes)
        changed = jamb.consent.change_reach(
            found.id, resource, permissions, reach, kind=kind, reason=reason, person=person
        )

    def show() -> None:
        for one in changed.grants:
            out.print(f"{one.permission} of “{found.name}” counts {one.reach.words}.", markup=False)
        for label, names in (
            ("For more objects", changed.wider),
            ("For fewer objects", changed.narrower),
            ("No longer possible", changed.no_longer),
        ):
            if names:
                note(f"{label}: {', '.join(names)}")

    emit(changed, output, show)


def _show_wider(seen: ReachPreview) -> None:
    """Print what another reach would make possible, the dangerous first."""
    rows = [[one.name, one.title, one.effect, one.data_class, str(one.weight)] for one in (*seen.newly, *seen.wider)]
    out.print("It would count for more:", markup=False)
    table(["operation", "what it does", "effect", "data", "weight"], rows, right=["weight"])
    for label, names in (("For fewer objects", seen.narrower), ("No longer possible", seen.no_longer)):
        if names:
            note(f"{label}: {', '.join(names)}")
    out.print(f"It adds a weight of {seen.added_weight:g}. {seen.agreement}".rstrip(), markup=False)


@app.command()
def withdraw(
    client: ClientArgument,
    resource: ResourceArgument,
    permissions: Annotated[list[str], typer.Argument(metavar="PERMISSION...", help="Granted permissions to end")],
    delegated: DelegatedOption = False,
    person: PersonOption = None,
    at: Annotated[str | None, typer.Option(help="Not now but then: a day (its end, UTC) or a moment")] = None,
    reason: ReasonOption = "",
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """End the consent to permissions, now or at a moment to come. What it asks for stays asked."""
    moment = moment_of("--at", at)
    with connected() as jamb:
        found = jamb.clients.find(client)
        used = relative(found.last_used_at)
        names = ", ".join(permissions)
        when = f" {relative(moment)}" if moment is not None else ""
        confirm(f"End the consent to {names} at {resource} for “{found.name}”{when} (last use {used})?", yes)
        ended = jamb.consent.withdraw(
            found.id, resource, permissions, kind=kind_of(delegated), reason=reason, at=moment, person=person
        )

    def show() -> None:
        no_longer = ", ".join(ended.no_longer) or "nothing: other permissions open the same"
        out.print(f"{'Ends' if moment else 'Ended'}. No longer possible: {no_longer}.", markup=False)
        tokens = "No token from before lives" if not ended.live_tokens else f"{ended.live_tokens} tokens may still live"
        note(f"{tokens}, the last until {ended.tokens_until:%H:%M:%S} UTC; guarded APIs refuse them within seconds.")

    emit(ended, output, show)


def show_preview(found: ConsentPreview) -> None:
    """Print what a consent would make possible, the dangerous first."""
    if not found.resources:
        out.print(f"“{found.client_name}” waits for nothing.", markup=False)
        return
    heading(f"“{found.client_name}” asks; its purpose: {found.purpose}")
    for place in found.resources:
        _show_place(place, found.person)
    said = f"\nIt adds a weight of {found.weight:g}"
    if found.approvers > 1:
        said += f": {found.approvers} approvers must say yes to a request."
    elif found.two_people:
        said += f": somebody else than {' and '.join(found.asked_by)}, who asked, must consent."
    else:
        said += "."
    out.print(said, markup=False)
    if found.acting:
        note(f"Who can act as it, and gains this: {', '.join(found.acting)}")
    if found.agreement:
        out.print(found.agreement, markup=False)


def _show_place(place: ConsentAtResource, person: str) -> None:
    names = ", ".join(ask.permission for ask in place.asks)
    way = "as itself" if place.kind == "application" else f"for {person or 'everyone who signs in'}"
    out.print(f"\nAt {place.title}, acting {way}, consent to {names} would newly make possible:", markup=False)
    counts = {one.operation: one for one in place.objects}
    if place.newly or place.wider:
        rows = []
        for one in (*place.newly, *place.wider):
            count = counts.get(one.name)
            over = "—"
            if count is not None:
                over = f"{count.after} of {count.known}" if count.known else "all"
                over += f", {count.before} before" if count.before else ""
            rows.append([one.name, one.title, one.effect, one.data_class, over, str(one.weight)])
        over_what = plural(place.object_name) if place.object_name else "objects"
        table(["operation", "what it does", "effect", "data", f"over {over_what}", "weight"], rows, right=["weight"])
    else:
        out.print("  nothing: all of it is possible already")
    _note_place(place)


def _note_place(place: ConsentAtResource) -> None:
    """Print what else is to be known of a consent at one resource."""
    if any(one.words != "everywhere" for one in place.reach):
        note(f"Reach: {'; '.join(one.words for one in place.reach)}")
    if place.implied:
        note(f"Comes along by implication: {', '.join(place.implied)}")
    if place.redundant:
        note(f"Redundant, another of these implies it: {', '.join(place.redundant)}")
    for rule in place.rules:
        note(rule)
    for others in place.others:
        if others.count:
            more = f" and {others.count - len(others.names)} more" if others.count > len(others.names) else ""
            note(f"{others.permission} is held too by {', '.join(others.names)}{more}")
    if place.unchanged:
        note(f"Possible before and after: {len(place.unchanged)} operations")
