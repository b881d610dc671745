"""Registrations: make one, change what it says, and who owns it."""

from __future__ import annotations

import secrets
from collections.abc import Collection, Iterable
from dataclasses import replace
from datetime import datetime
from typing import Any

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, load_one
from jamb.actions.base.subjects import client_subject
from jamb.actions.clients.clients import client_view
from jamb.actions.clients.logos import read_logo
from jamb.actions.directory.groups import check_groups
from jamb.actions.directory.people import find_person
from jamb.actions.judgement.judging import Wanted, judge_acting, take_turn
from jamb.core.clients.clients import ClientState, OwnerLevel, Registration, folded, look_of, registration
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.errors import NameTaken, Unsuited, Violation
from jamb.core.ids import client_id_from
from jamb.store.base.work import Unit
from jamb.store.clients import clients, logos
from jamb.store.directory import roles
from jamb.store.directory.people import PersonRow
from jamb.store.entry import authorizations
from jamb.wire.clients.clients import Client, RegistrationChange


def register(act: Act, wanted: Registration, owners: Iterable[str], *, make_owner: bool = False) -> Client:
    """Register a client; owners are logins or ids of people of the directory.

    Args:
        wanted: what is said of it, as `core.clients.registration` tidied it.
        make_owner: whoever registers it becomes an owner too: without it they could not see it afterwards.

    Raises:
        NameTaken: another client of the directory has this name, in any letter case.
        NotFound: an owner is not known here.
    """
    _check_trial(wanted, act.now)
    with act.change() as unit:
        people = {person.id: person for person in (find_person(unit.session, act.directory, owner) for owner in owners)}
        if act.actor.kind == "person" and make_owner:
            maker = find_person(unit.session, act.directory, act.actor.id)
            people[maker.id] = maker
        row = put_client(unit, client_id_from(secrets.token_bytes(13)), wanted, people.values())
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


def put_client(unit: Unit, client_id: str, wanted: Registration, owners: Collection[PersonRow]) -> clients.ClientRow:
    """Put a client of this registration within a unit. Raises `NameTaken`."""
    check_groups(unit.session, unit.directory, wanted.sign_in_groups)
    row = clients.ClientRow(
        id=client_id,
        directory_id=unit.directory.id,
        state=ClientState.LIVE.value,
        registered_at=unit.now,
        registered_by=unit.actor.name,
        **_columns(wanted),
    )
    with unit.constraint("client_name_taken", lambda: _taken(unit.directory, wanted.name)):
        unit.session.add(row)
    for person in owners:
        unit.session.add(clients.ClientOwnerRow(client_id=row.id, person_id=person.id))
    told = {**wanted.words(), "owners": [person.name for person in owners]}
    unit.enter("client.registered", client_subject(row), after=told)
    unit.session.flush()
    return row


def change_registration(act: Act, client_id: str, changes: RegistrationChange) -> Client:
    """Change what a registration says; what is left out of the changes stays.

    Raises:
        BadInput: it is not acceptable, or nothing would change. NameTaken: another client has this name.
    """
    logo = read_logo(changes.logo) if changes.logo else None
    with act.change() as unit:
        take_turn(unit)
        row = find_client(unit.session, act.directory, client_id, lock=True)
        act.expect(
            f"“{row.name}”",
            lambda: client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now).version,
        )
        held = Registration.of(row)
        wanted = registration(**{**held.said(), **changes.model_dump(exclude_none=True, exclude={"no_trial", "logo"})})
        if changes.logo is not None:
            wanted = replace(wanted, logo=logo.digest if logo else "")
        if changes.trial_ends_at is not None:
            _check_trial(wanted, act.now)
        check_groups(unit.session, act.directory, wanted.sign_in_groups)
        if changes.no_trial:
            wanted = replace(wanted, trial_ends_at=None)
        new_uris = [redirect_uri for redirect_uri in wanted.redirect_uris if redirect_uri not in held.redirect_uris]
        if new_uris:
            judge_acting(
                unit,
                row,
                [act.actor.id],
                Wanted(ActKind.REDIRECTS, f"“{row.name}”", {"redirect_uris": list(wanted.redirect_uris)}, row.id),
                "An owner who answers for the client can add them.",
                for_people=True,
            )
        put_change(unit, row, wanted)
        if logo is not None:
            logos.put(unit.session, row, logo.digest, logo.look, logo.image)
        elif changes.logo is not None:
            logos.drop(unit.session, row.id)
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


def put_change(unit: Unit, row: clients.ClientRow, wanted: Registration) -> None:
    """Put another registration in place of a client's within a unit.

    Raises:
        NameTaken. BadInput: it says nothing else than before.
    """
    held = Registration.of(row)
    if wanted == held:
        raise Unsuited.field("client", "what it says already", "something that changes")
    for column, value in _columns(wanted).items():
        setattr(row, column, value)
    if wanted.grant_types != held.grant_types:
        row.grant_types_since = unit.now
    before, after = held.words(), wanted.words()
    with unit.constraint("client_name_taken", lambda: _taken(unit.directory, wanted.name)):
        unit.session.add(row)
    if wanted.sign_in_groups and wanted.sign_in_groups != held.sign_in_groups:
        _end_for_others(unit, row, unit.directory, wanted)
    different = [name for name in {**before, **after} if before.get(name) != after.get(name)]
    unit.enter(
        "client.changed",
        client_subject(row),
        before={name: before.get(name) for name in different},
        after={name: after.get(name) for name in different},
    )
    unit.session.flush()


def change_owners(
    act: Act, client_id: str, add: Iterable[str], remove: Iterable[str], level: OwnerLevel = OwnerLevel.FULL
) -> Client:
    """Add owners of a level and remove owners (logins or ids) in one step; who is added again gets the new level.

    To hand a client over, add one person and remove the other.

    Raises:
        NotFound: a person is not known here. BadInput: nothing would change.
    """
    with act.change() as unit:
        take_turn(unit)
        row = find_client(unit.session, act.directory, client_id, lock=True)
        before = {owner.person_id: owner for owner in clients.owners_of(unit.session, [row.id]).get(row.id, [])}
        added = {
            person.id: clients.Owned(person.id, person.name, level)
            for person in (find_person(unit.session, act.directory, one) for one in add)
        }
        removed = {person.id for person in (find_person(unit.session, act.directory, one) for one in remove)}
        after = {key: one for key, one in {**before, **added}.items() if key not in removed}
        gaining = [
            one.person_id for key, one in after.items() if one.level is OwnerLevel.FULL and before.get(key) != one
        ]
        judge_acting(
            unit,
            row,
            map(str, gaining),
            Wanted(
                ActKind.OWNERS,
                f"“{row.name}”",
                {"add": sorted(map(str, added)), "remove": sorted(map(str, removed)), "level": level.value},
                row.id,
            ),
            "Owners who may only edit, and owners who may do as much already, need nobody else.",
        )
        if after == before:
            raise Unsuited.field("add", "nothing new", "people who are not owners yet, or owners to remove")
        for key in before.keys() - after.keys():
            unit.session.delete(unit.session.get_one(clients.ClientOwnerRow, (row.id, key)))
        for key, one in after.items():
            if before.get(key) != one:
                held = unit.session.get(clients.ClientOwnerRow, (row.id, key))
                held = held or clients.ClientOwnerRow(client_id=row.id, person_id=key)
                held.level = one.level.value
                unit.session.add(held)
        unit.enter(
            "owners.changed",
            client_subject(row),
            before={"owners": _owner_words(before.values())},
            after={"owners": _owner_words(after.values())},
        )
        unit.session.flush()
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


def _end_for_others(unit: Unit, row: clients.ClientRow, directory: Directory, wanted: Registration) -> None:
    """End what the client does for people whom it is not for any more: guards hear of it within seconds."""
    named = [group.id for group in roles.groups_of(unit.session, directory.id) if group.name in wanted.sign_in_groups]
    inside = {person.id for people in roles.people_within(unit.session, named).values() for person in people}
    authorizations.end_for_others(unit.session, row.id, inside, unit.now)


def _check_trial(wanted: Registration, now: datetime) -> None:
    ends = wanted.trial_ends_at
    if ends is not None and ends <= now:
        raise Unsuited.field("trial_ends_at", ends.isoformat(), "a moment to come")


def _columns(wanted: Registration) -> dict[str, Any]:
    """Return the columns of a client's record that a registration fills, and those made of its name."""
    return {
        **wanted.said(),
        "kind": wanted.kind.value,
        "redirect_uris": list(wanted.redirect_uris),
        "post_logout_redirect_uris": list(wanted.post_logout_redirect_uris),
        "sign_in_groups": list(wanted.sign_in_groups),
        "grant_types": [grant_type.value for grant_type in wanted.grant_types],
        "folded_name": folded(wanted.name),
        "look": look_of(wanted.name),
    }


def _owner_words(owners: Iterable[clients.Owned]) -> list[str]:
    return sorted(
        owner.name if owner.level is OwnerLevel.FULL else f"{owner.name} ({owner.level.value})" for owner in owners
    )


def _taken(directory: Directory, name: str) -> NameTaken:
    return NameTaken(
        f"{directory.name} already has a client “{name}”.",
        violations=(Violation("name", name, "a name no other client of this directory has", "Choose another name."),),
    )
