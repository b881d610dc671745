"""People and groups."""

from __future__ import annotations

from typing import Annotated

from fastapi import Query, Request, Response

from jamb.actions.base.act import Act
from jamb.actions.directory import groups, people
from jamb.service.callers import may
from jamb.service.http.paging import DEFAULT_LIMIT, Cursor, Limit, onward, unpack_name, unpack_text
from jamb.service.http.routing import api_router
from jamb.service.http.versions import tagged
from jamb.wire.base.shapes import Page
from jamb.wire.directory import people as wire
from jamb.wire.directory import roles as roles_wire

router = api_router("/api/v1/directories/{directory}", tags=["people"])


@router.get("/people")
def list_people(
    act: Annotated[Act, may("people.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name or login")] = "",
    active: Annotated[bool | None, Query(description="Only who may act, or only who may not")] = None,
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[wire.Person]:
    """The people of the directory, by name."""
    found, after, total = people.list_people(act, query=q, active=active, after=unpack_name(cursor), limit=limit)
    following = onward(request, response, after)
    return Page[wire.Person](items=found, next=following, total=total)


@router.post("/people", status_code=201)
def add_person(sent: wire.NewPerson, act: Annotated[Act, may("people.add")]) -> wire.Person:
    """Add a person with roles."""
    return people.add_person(act, sent.login, sent.name, sent.roles)


@router.post("/people/import")
def import_people(sent: wire.PeopleFile, act: Annotated[Act, may("people.import")]) -> wire.PeopleImported:
    """Add the people of a CSV file, all or none; with `dry_run` only say what it would do."""
    found = people.import_people(act, sent.csv, dry_run=sent.dry_run)
    return wire.PeopleImported(
        added=list(found.added),
        present=list(found.present),
        groups_made=list(found.groups_made),
    )


@router.post("/people/{person}")
def change_person(
    person: str,
    sent: wire.PersonChange,
    act: Annotated[Act, may("people.change")],
) -> wire.Person:
    """Change a person's name, or whether they may act here; or take off their second factor or link to a provider."""
    return people.change_person(
        act,
        person,
        name=sent.name,
        active=sent.active,
        no_second_factor=sent.no_second_factor,
        no_provider=sent.no_provider,
    )


@router.get("/groups")
def list_groups(
    act: Annotated[Act, may("groups.list")],
    request: Request,
    response: Response,
    q: Annotated[str, Query(max_length=100, description="Part of the name or title")] = "",
    cursor: Cursor = None,
    limit: Limit = DEFAULT_LIMIT,
) -> Page[roles_wire.Group]:
    """The groups of the directory with their direct members, by name."""
    found, after, total = groups.list_groups(act, q, unpack_text(cursor), limit)
    return Page[roles_wire.Group](items=found, next=onward(request, response, after), total=total)


@router.put("/groups/{group}")
def save_group(
    group: str,
    sent: roles_wire.GroupSent,
    act: Annotated[Act, may("groups.save", edits=True)],
    response: Response,
) -> roles_wire.Group:
    """Make a group, or put these members in place of those it has."""
    return tagged(response, groups.save_group(act, group, sent.title, sent.people, sent.groups))


@router.delete("/groups/{group}", status_code=204)
def remove_group(group: str, act: Annotated[Act, may("groups.remove")]) -> None:
    """Remove a group that nothing stands on."""
    groups.remove_group(act, group)
