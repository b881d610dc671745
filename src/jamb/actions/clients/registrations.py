"""Registrations: make one, change what it says, and who owns it."""

from __future__ import annotations

import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, load_one
from jamb.actions.base.subjects import client_subject
from jamb.actions.clients.clients import client_view
from jamb.actions.directory.people import find_person
from jamb.actions.judgement.judging import Wanted, judge_acting, take_turn
from jamb.core.clients.clients import ClientKind, ClientState, OwnerLevel, Registration, folded, look_of, registration
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.errors import NameTaken, Unsuited, Violation
from jamb.core.ids import client_id_from
from jamb.store.clients import clients
from jamb.wire.clients.clients import Client


@dataclass(frozen=True, slots=True)
class RegistrationChange:
    """What to change of a registration; None: it stays. `no_trial`: it is to stay for good."""

    name: str | None = None
    purpose: str | None = None
    redirect_uris: tuple[str, ...] | None = None
    publisher: str | None = None
    trial_ends_at: datetime | None = None
    no_trial: bool = False


def register(
    act: Act,
    wanted: Registration,
    owners: Iterable[str],
    *,
    make_owner: bool = False,
    trial_ends_at: datetime | None = None,
) -> Client:
    """Register a client; owners are logins or ids of people of the directory.

    Args:
        wanted: what is said of it, as `core.clients.registration` tidied it.
        make_owner: whoever registers it becomes an owner too: without it they could not see it afterwards.

    Raises:
        NameTaken: another client of the directory has this name, in any letter case.
        NotFound: an owner is not known here.
    """
    _check_trial(trial_ends_at, act.now)
    with act.change() as unit:
        row = clients.ClientRow(
            id=client_id_from(secrets.token_bytes(13)),
            directory_id=act.directory.id,
            name=wanted.name,
            folded_name=folded(wanted.name),
            look=look_of(wanted.name),
            purpose=wanted.purpose,
            kind=wanted.kind.value,
            state=ClientState.LIVE.value,
            registered_at=act.now,
            registered_by=act.actor.name,
            redirect_uris=list(wanted.redirect_uris),
            publisher=wanted.publisher,
            trial_ends_at=trial_ends_at,
        )
        with unit.constraint("client_name_taken", lambda: _taken(act.directory, wanted.name)):
            unit.session.add(row)
        people = {person.id: person for person in (find_person(unit.session, act.directory, owner) for owner in owners)}
        if act.actor.kind == "person" and make_owner:
            maker = find_person(unit.session, act.directory, act.actor.id)
            people[maker.id] = maker
        for person_id in people:
            unit.session.add(clients.ClientOwnerRow(client_id=row.id, person_id=person_id))
        unit.enter(
            "client.registered",
            client_subject(row),
            after={
                "name": row.name,
                "purpose": row.purpose,
                "kind": row.kind,
                "owners": [person.name for person in people.values()],
                **_said_further(row),
            },
        )
        unit.session.flush()
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


def change_registration(act: Act, client_id: str, changes: RegistrationChange) -> Client:
    """Change what a registration says; what is left out of the changes stays.

    Raises:
        BadInput: it is not acceptable, or nothing would change. NameTaken: another client has this name.
    """
    with act.change() as unit:
        take_turn(unit)
        row = find_client(unit.session, act.directory, client_id, lock=True)
        before = {"name": row.name, "purpose": row.purpose, **_said_further(row)}
        wanted = registration(
            row.name if changes.name is None else changes.name,
            row.purpose if changes.purpose is None else changes.purpose,
            ClientKind(row.kind),
            row.redirect_uris if changes.redirect_uris is None else changes.redirect_uris,
            row.publisher if changes.publisher is None else changes.publisher,
        )
        if changes.trial_ends_at is not None:
            _check_trial(changes.trial_ends_at, act.now)
            row.trial_ends_at = changes.trial_ends_at
        if changes.no_trial:
            row.trial_ends_at = None
        new_uris = [redirect_uri for redirect_uri in wanted.redirect_uris if redirect_uri not in row.redirect_uris]
        if new_uris:
            judge_acting(
                unit,
                row,
                [act.actor.id],
                Wanted(ActKind.REDIRECTS, f"“{row.name}”", {"redirect_uris": list(wanted.redirect_uris)}, row.id),
                "An owner who answers for the client can add them.",
                for_people=True,
            )
        row.name, row.folded_name, row.purpose = wanted.name, folded(wanted.name), wanted.purpose
        row.look = look_of(wanted.name)
        row.redirect_uris, row.publisher = list(wanted.redirect_uris), wanted.publisher
        after = {"name": row.name, "purpose": row.purpose, **_said_further(row)}
        if after == before:
            raise Unsuited.field("client", "what it says already", "something that changes")
        with unit.constraint("client_name_taken", lambda: _taken(act.directory, wanted.name)):
            unit.session.add(row)
        different = [name for name in {**before, **after} if before.get(name) != after.get(name)]
        unit.enter(
            "client.changed",
            client_subject(row),
            before={name: before.get(name) for name in different},
            after={name: after.get(name) for name in different},
        )
        unit.session.flush()
        return client_view(act.directory, load_one(unit.session, act.directory, row, act.now), act.now)


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


def _check_trial(ends: datetime | None, now: datetime) -> None:
    if ends is not None and ends <= now:
        raise Unsuited.field("trial_ends_at", ends.isoformat(), "a moment to come")


def _said_further(row: clients.ClientRow) -> dict[str, object]:
    """Return what a registration says beside name and purpose, where it says something."""
    said: dict[str, object] = {
        "redirect URIs": list(row.redirect_uris),
        "publisher": row.publisher,
        "trial ends": row.trial_ends_at.isoformat() if row.trial_ends_at is not None else "",
    }
    return {name: value for name, value in said.items() if value}


def _owner_words(owners: Iterable[clients.Owned]) -> list[str]:
    return sorted(
        owner.name if owner.level is OwnerLevel.FULL else f"{owner.name} ({owner.level.value})" for owner in owners
    )


def _taken(directory: Directory, name: str) -> NameTaken:
    return NameTaken(
        f"{directory.name} already has a client “{name}”.",
        violations=(Violation("name", name, "a name no other client of this directory has", "Choose another name."),),
    )
