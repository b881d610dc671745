"""People and groups."""

from __future__ import annotations

from typing import Annotated

from fastapi import Depends

from jamb.actions import groups, people
from jamb.actions.access import Admitted
from jamb.service.callers import Now, TheOffice, may
from jamb.service.routing import api_router
from jamb.wire import people as wire
from jamb.wire import roles as roles_wire

router = api_router("/api/v1/directories/{directory}", tags=["people"])


@router.get("/people", dependencies=[Depends(may("people.list"))])
def list_people(directory: str, office: TheOffice, now: Now) -> list[wire.Person]:
    """The people of the directory, by name."""
    return [wire.Person.model_validate(person) for person in people.list_people(office.premises, directory, now)]


@router.post("/people", status_code=201)
def add_person(
    sent: wire.NewPerson, admitted: Annotated[Admitted, Depends(may("people.add"))], office: TheOffice, now: Now
) -> wire.Person:
    """Add a person with roles."""
    password = sent.password.get_secret_value() if sent.password is not None else None
    made = people.add_person(
        office.premises, admitted.directory, sent.login, sent.name, password, sent.roles, admitted.actor, now
    )
    return wire.Person.model_validate(made)


@router.post("/people/import")
def import_people(
    sent: wire.PeopleFile, admitted: Annotated[Admitted, Depends(may("people.import"))], office: TheOffice, now: Now
) -> wire.PeopleImported:
    """Add the people of a CSV file, all or none; with `dry_run` only say what it would do."""
    found = people.import_people(
        office.premises, admitted.directory, sent.csv, admitted.actor, now, dry_run=sent.dry_run
    )
    return wire.PeopleImported(
        added=[wire.Person.model_validate(person) for person in found.added],
        present=list(found.present),
        groups_made=list(found.groups_made),
    )


@router.post("/people/{person}")
def change_person(
    person: str,
    sent: wire.PersonChange,
    admitted: Annotated[Admitted, Depends(may("people.change"))],
    office: TheOffice,
    now: Now,
) -> wire.Person:
    """Change a person's name or password, or whether they may act here."""
    changed = people.change_person(
        office.premises,
        admitted.directory,
        person,
        admitted.actor,
        now,
        name=sent.name,
        live=sent.live,
        password=sent.password.get_secret_value() if sent.password is not None else None,
    )
    return wire.Person.model_validate(changed)


@router.get("/groups", dependencies=[Depends(may("groups.list"))])
def list_groups(directory: str, office: TheOffice) -> list[roles_wire.Group]:
    """The groups of the directory with their direct members."""
    return [roles_wire.Group.model_validate(group) for group in groups.list_groups(office.premises, directory)]


@router.put("/groups/{group}")
def save_group(
    group: str,
    sent: roles_wire.GroupSent,
    admitted: Annotated[Admitted, Depends(may("groups.save"))],
    office: TheOffice,
    now: Now,
) -> roles_wire.Group:
    """Make a group, or put these members in place of those it has."""
    saved = groups.save_group(
        office.premises, admitted.directory, group, sent.title, sent.people, sent.groups, admitted.actor, now
    )
    return roles_wire.Group.model_validate(saved)


@router.delete("/groups/{group}", status_code=204)
def remove_group(
    group: str, admitted: Annotated[Admitted, Depends(may("groups.remove"))], office: TheOffice, now: Now
) -> None:
    """Remove a group that nothing stands on."""
    groups.remove_group(office.premises, admitted.directory, group, admitted.actor, now)
