"""People, groups and roles."""

from __future__ import annotations

from pathlib import Path
from typing import Annotated

import typer
from rich.text import Text

from jamb.cli.base.connection import connected
from jamb.cli.base.options import ExceptOption, OnlyOption, UntilOption, moment_of, reach_of, read_json, read_text
from jamb.cli.base.output import Form, IfMatchOption, Output, YesOption, confirm, emit, note, out, relative, table
from jamb.client import BadInput
from jamb.core.directory.roles import HolderKind
from jamb.core.directory.sign_in_links import DEFAULT_HOURS, MOST_HOURS
from jamb.wire.base.shapes import checked
from jamb.wire.directory.roles import ClientGain, Role, RoleSent

people = typer.Typer(no_args_is_help=True)
groups = typer.Typer(no_args_is_help=True)
roles = typer.Typer(no_args_is_help=True)
PersonArgument = Annotated[str, typer.Argument(metavar="PERSON", help="A login or id")]
PeopleOption = Annotated[list[str] | None, typer.Option("--person", help="Login; may be given again")]
GroupsOption = Annotated[list[str] | None, typer.Option("--group", help="Name of a group; may be given again")]
ClientsOption = Annotated[list[str] | None, typer.Option("--client", help="Client id or name; may be given again")]


@people.command("list")
def list_people(
    find: Annotated[str, typer.Option("--find", help="Part of the name or login")] = "",
    inactive: Annotated[bool, typer.Option("--inactive", help="Only those who may not act any more")] = False,
    output: Output = Form.TABLE,
) -> None:
    """List the people of the directory with the roles they hold themselves."""
    with connected() as jamb:
        found = list(jamb.people.list(q=find, active=False if inactive else None))
    rows = [[one.name, one.login, "active" if one.active else "inactive", ", ".join(one.roles) or "—"] for one in found]
    emit(found, output, lambda: table(["name", "login", "state", "roles"], rows))


@people.command()
def add(
    login: Annotated[str, typer.Argument(help="As name@domain")],
    name: Annotated[str, typer.Option(help="Their name")],
    role: Annotated[list[str] | None, typer.Option(help="A role; may be given again")] = None,
    output: Output = Form.TABLE,
) -> None:
    """Add a person. With a sign-in link (`jamb people link`) they choose their password."""
    with connected() as jamb:
        made = jamb.people.add(login, name, roles=role or [])
    emit(made, output, lambda: out.print(f"Added {made.name}. Next: jamb people link {made.login}", markup=False))


@people.command()
def link(
    person: PersonArgument,
    mail: Annotated[
        bool, typer.Option("--mail", help="Send it to their login as a mail address; nobody sees it")
    ] = False,
    hours: Annotated[
        int, typer.Option(min=1, max=MOST_HOURS, help="How long it can be used, in hours")
    ] = DEFAULT_HOURS,
    output: Output = Form.TABLE,
) -> None:
    """Make a one-time link by which a person chooses a password, the first or another."""
    with connected() as jamb:
        made = jamb.people.link(person, hours=hours, mailed=mail)

    def show() -> None:
        if made.mailed:
            out.print(f"The link goes to {made.login} with the next mail; it opens once, {relative(made.expires_at)}.")
            return
        out.print(made.link, markup=False, soft_wrap=True)
        note(f"Give it to {made.login} and to nobody else: it opens once, until {made.expires_at:%Y-%m-%d %H:%M} UTC.")

    emit(made, output, show)


@people.command("import")
def load(
    file: Annotated[Path, typer.Argument(help="CSV with login, name, and by semicolons groups and roles; - for stdin")],
    dry_run: Annotated[bool, typer.Option("--dry-run", help="Only say what it would do")] = False,
    output: Output = Form.TABLE,
) -> None:
    """Add the people of a CSV file, all or none; who is here already stays, but joins the groups named."""
    text = read_text("FILE", file)
    with connected() as jamb:
        found = jamb.people.load(text, dry_run=dry_run)

    def show() -> None:
        done = "Would add" if dry_run else "Added"
        out.print(f"{done} {len(found.added)} people; {len(found.present)} were here already.", markup=False)
        if found.groups_made:
            out.print(f"{'Would make' if dry_run else 'Made'} the groups {', '.join(found.groups_made)}.", markup=False)

    emit(found, output, show)


@people.command()
def change(
    person: PersonArgument,
    name: Annotated[str | None, typer.Option(help="Another name")] = None,
    active: Annotated[bool | None, typer.Option("--active/--inactive", help="May they act here?")] = None,
    no_second_factor: Annotated[
        bool, typer.Option("--no-second-factor", help="They lost it: they sign in without, until they set one up")
    ] = False,
    no_provider: Annotated[
        bool, typer.Option("--no-provider", help="Their mail address at a sign-in provider is somebody else's now")
    ] = False,
    output: Output = Form.TABLE,
) -> None:
    """Change a person's name, whether they may act here, or what they sign in with.

    --no-second-factor takes off one that they lost, --no-provider ends their link to outside sign-in providers.
    Whoever is gone is signed out at once.
    """
    with connected() as jamb:
        changed = jamb.people.change(
            person, name=name, active=active, no_second_factor=no_second_factor, no_provider=no_provider
        )
    said = f"{changed.name} is {'active' if changed.active else 'inactive'}."
    said += " Their second factor is taken off." if no_second_factor else ""
    said += " They are linked to no sign-in provider, and signed out." if no_provider else ""
    emit(changed, output, lambda: out.print(said, markup=False))


@groups.command("list")
def list_groups(
    find: Annotated[str | None, typer.Option(help="Part of the name or title")] = None, output: Output = Form.TABLE
) -> None:
    """List the groups with their direct members."""
    with connected() as jamb:
        found = list(jamb.groups.list(q=find))
    rows = [
        [
            one.name,
            one.title,
            ", ".join(member.name for member in one.people) or "—",
            ", ".join(one.groups) or "—",
            str(one.everyone),
        ]
        for one in found
    ]
    emit(found, output, lambda: table(["group", "title", "people", "groups in it", "all"], rows, right=["all"]))


@groups.command("save")
def save_group(
    name: Annotated[str, typer.Argument(help="Lower-case words joined by hyphens")],
    title: Annotated[str, typer.Option(help="In words")] = "",
    person: PeopleOption = None,
    group: GroupsOption = None,
    if_match: IfMatchOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Make a group, or put these members in place of those it has."""
    with connected() as jamb:
        saved = jamb.groups.save(name, title=title, people=person or [], groups=group or [], if_match=if_match)
    emit(saved, output, lambda: out.print(f"{saved.name} holds {saved.everyone} people in all.", markup=False))


@groups.command("remove")
def remove_group(name: Annotated[str, typer.Argument(help="A group")], yes: YesOption = False) -> None:
    """Remove a group that nothing stands on."""
    confirm(f"Remove the group {name}?", yes)
    with connected() as jamb:
        jamb.groups.remove(name)
    out.print(f"Removed {name}.", markup=False)


@roles.command("list")
def list_roles(
    resource: Annotated[str | None, typer.Option(help="Only roles of this resource")] = None,
    output: Output = Form.TABLE,
) -> None:
    """List the roles and who holds them where."""
    with connected() as jamb:
        found = [one for one in jamb.roles.list() if resource in (None, one.resource)]

    def show() -> None:
        table(
            ["role", "resource", "permissions", "weight", "held by"],
            [[_name(one), one.resource, ", ".join(one.permissions), str(one.weight), _held(one)] for one in found],
            right=["weight"],
        )
        if any(one.everything for one in found):
            note("* opens everything at its resource")

    emit(found, output, show)


@roles.command("save")
def save_role(
    name: Annotated[str, typer.Argument(help="Lower-case words joined by hyphens")],
    file: Annotated[Path | None, typer.Option(help="JSON with title, resource and permissions; - for stdin")] = None,
    resource: Annotated[str, typer.Option(help="The resource, without a file")] = "",
    permission: Annotated[list[str] | None, typer.Option(help="A permission; may be given again")] = None,
    title: Annotated[str, typer.Option(help="In words")] = "",
    if_match: IfMatchOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Make a custom role, or change what one bundles: from options or from a file."""
    if file is not None:
        sent = checked(RoleSent, read_json("--file", file))
    else:
        sent = checked(RoleSent, {"title": title, "resource": resource, "permissions": permission or []})
    with connected() as jamb:
        saved = jamb.roles.save(name, sent, if_match=if_match)
    said = f"{saved.name} opens {saved.opens} operations at {saved.resource}, weight {saved.weight}."
    emit(saved, output, lambda: out.print(said, markup=False))


@roles.command("remove")
def remove_role(name: Annotated[str, typer.Argument(help="A custom role")], yes: YesOption = False) -> None:
    """Remove a custom role that nobody holds."""
    confirm(f"Remove the role {name}?", yes)
    with connected() as jamb:
        jamb.roles.remove(name)
    out.print(f"Removed {name}.", markup=False)


@roles.command("holders")
def list_holders(
    name: Annotated[str, typer.Argument(metavar="ROLE", help="Name of the role")],
    find: Annotated[str, typer.Option("--find", help="Part of a name or login")] = "",
    output: Output = Form.TABLE,
) -> None:
    """List who holds a role, and where: groups, people, clients."""
    with connected() as jamb:
        found = list(jamb.roles.holders(name, q=find))
    rows = [
        [one.kind, one.name, one.id, one.reach.words, relative(one.expires_at, "no expiry"), one.assigned_by]
        for one in found
    ]
    emit(found, output, lambda: table(["kind", "name", "login or id", "reach", "expires", "assigned by"], rows))


@roles.command()
def assign(
    name: Annotated[str, typer.Argument(metavar="ROLE", help="A role")],
    person: PeopleOption = None,
    group: GroupsOption = None,
    client: ClientsOption = None,
    only: OnlyOption = None,
    all_but: ExceptOption = None,
    until: UntilOption = None,
    yes: YesOption = False,
    output: Output = Form.TABLE,
) -> None:
    """Assign a role to people, groups or clients, over any number of collections; shows what clients would gain."""
    reach, ends = reach_of(only, all_but), moment_of("--until", until)
    with connected() as jamb:
        kind, holders = _holders(person, group, [jamb.clients.find(one).id for one in client or []])
        if kind is HolderKind.CLIENT and output is Form.TABLE:
            gains = jamb.roles.preview(name, holders, reach=reach, expires_at=ends)
            for one in gains:
                _show_gain(one)
            if any(one.weight for one in gains):
                confirm(f"Assign {name}?", yes)
        changed = jamb.roles.assign(name, kind, holders, reach=reach, expires_at=ends)
    emit(changed, output, lambda: out.print(f"{changed.name} is held by {_held(changed)}.", markup=False))


@roles.command()
def withdraw(
    name: Annotated[str, typer.Argument(metavar="ROLE", help="A role")],
    person: PeopleOption = None,
    group: GroupsOption = None,
    client: ClientsOption = None,
    output: Output = Form.TABLE,
) -> None:
    """Withdraw a role from its holders. Guarded APIs act on it within seconds."""
    with connected() as jamb:
        kind, holders = _holders(person, group, [jamb.clients.find(one).id for one in client or []])
        changed = jamb.roles.withdraw(name, kind, holders)
    emit(changed, output, lambda: out.print(f"{changed.name} is held by {_held(changed)}.", markup=False))


def _show_gain(one: ClientGain) -> None:
    out.print(f"“{one.name}” could then do, with a weight of {one.weight:g}:", markup=False)
    for label, names in (("newly", one.newly), ("for more objects", one.wider)):
        if names:
            out.print(f"  {label}: {', '.join(names)}", markup=False)
    if not (one.newly or one.wider):
        out.print("  nothing that it cannot do already", markup=False)
    if one.agreement:
        out.print(one.agreement, markup=False)


def _holders(
    person: list[str] | None, group: list[str] | None, client: list[str] | None
) -> tuple[HolderKind, list[str]]:
    given = [
        (kind, names)
        for kind, names in ((HolderKind.PERSON, person), (HolderKind.GROUP, group), (HolderKind.CLIENT, client))
        if names
    ]
    if len(given) != 1:
        raise BadInput.field("--person", f"{len(given)} kinds of holder", "one of --person, --group and --client")
    return given[0]


def _name(one: Role) -> Text:
    return Text(one.name + ("*" if one.everything else ""), style="dim" if one.shipped else "")


def _held(one: Role) -> str:
    parts = []
    for holder in one.holders:
        bounds = [] if holder.reach.words == "everywhere" else [holder.reach.words]
        bounds += [f"until {relative(holder.expires_at)}"] if holder.expires_at is not None else []
        kind = "" if holder.kind == "person" else f"{holder.kind} "
        parts.append(f"{kind}{holder.name}" + (f" ({', '.join(bounds)})" if bounds else ""))
    if one.holders_in_all > len(one.holders):
        parts.append(f"and {one.holders_in_all - len(one.holders)} more: jamb roles holders {one.name}")
    return ", ".join(parts) or "nobody"
