"""People: add them, change them, take them in from a file; sign them in at the console and out again."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID, uuid4

from argon2 import PasswordHasher
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import refuse_stewardless
from jamb.actions.base.passwords import check_password
from jamb.actions.base.views import person_view
from jamb.actions.judgement.judging import Wanted, judge_power, judge_signing_in, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.directory.people_list import ListedPerson, check_person, read_people
from jamb.core.directory.roles import check_short_name
from jamb.core.errors import NameTaken, NotFound, Unsuited, Violation
from jamb.store.base.work import Unit
from jamb.store.credentials.credentials import end_sign_ins
from jamb.store.directory import passkeys, people, providers, roles, second_factors
from jamb.store.directory.sign_in_links import replace_links
from jamb.wire.directory.people import PeopleImported, Person

# argon2id (RFC 9106) with the library's defaults, which are its low-memory recommendation (section 4).
_HASHER = PasswordHasher()


def add_person(act: Act, login: str, name: str, role_names: Sequence[str]) -> Person:
    """Add a person with roles. They can sign in once they have chosen a password by a sign-in link.

    Raises:
        BadInput: an unfit login or name, or a role that does not exist. NameTaken: the login is in use.
    """
    login, name = login.strip().lower(), " ".join(name.split())
    check_person(login, name)
    with act.change() as unit:
        take_turn(unit)
        return _add(unit, ListedPerson(login, name, (), tuple(role_names)))


def import_people(act: Act, text: str, *, dry_run: bool = False) -> PeopleImported:
    """Add the people of a CSV file, all or none; who is here already stays as they are, but joins the groups named.

    Groups that do not exist are made. With `dry_run` nothing is kept; the answer is the same.
    """
    listed = read_people(text)
    with act.rehearse() if dry_run else act.change() as unit:
        known = {row.login: row for row in people.people_of(unit.session, act.directory.id)}
        added = [_add(unit, person) for person in listed if person.login not in known]
        made = _join_groups(unit, listed)
        return PeopleImported(
            added=tuple(added),
            present=tuple(person.login for person in listed if person.login in known),
            groups_made=tuple(made),
        )


def change_person(
    act: Act,
    reference: str,
    *,
    name: str | None = None,
    active: bool | None = None,
    no_second_factor: bool = False,
    no_provider: bool = False,
) -> Person:
    """Change a person's name, or whether they may act here at all; or take off a second factor that they lost.

    Args:
        no_provider: whom outside providers mean by them is forgotten, and they are signed out: who signs in next by a
            provider with their verified mail address is linked anew.

    Raises:
        StillInUse: the directory would be left without a steward. BadInput: nothing would change.
        NeedsAgreement: whoever could sign in as this person would do more by that than they may; it waits.
    """
    with act.change() as unit:
        take_turn(unit)
        row = find_person(unit.session, act.directory, reference, lock=True)
        before, after = {}, {}
        if name is not None and " ".join(name.split()) != row.name:
            before["name"], row.name = row.name, " ".join(name.split())
            check_person(row.login, row.name)
            after["name"] = row.name
        if active is not None and active != row.active:
            before["state"], after["state"] = ("active", "inactive") if row.active else ("inactive", "active")
            row.active = active
        if no_second_factor and _took_off(unit.session, row.id):
            after["second factor"] = "taken off"
            # Whoever found the device is signed in no more.
            people.end_sessions(unit.session, row.id)
        if no_provider and providers.end_links(unit.session, row.id):
            after["signs in by"] = "no provider"
            people.end_sessions(unit.session, row.id)
            end_sign_ins(unit.session, row.id, act.now, "the link to a sign-in provider was ended")
        if not after:
            allowed = "something to change: name, active, a second factor or a link to a provider that they have"
            raise Unsuited.field("person", row.login, allowed)
        unit.session.add(row)
        if after.get("state") == "active":
            wanted = Wanted(ActKind.PERSON, row.name, {"person": str(row.id), "what": "reactivated", "name": name})
            judge_sign_in(unit, row, wanted)
        if after.get("state") == "inactive":
            people.end_sessions(unit.session, row.id)
            end_sign_ins(unit.session, row.id, act.now)
            replace_links(unit.session, row.id, act.now)
        unit.enter("person.changed", _subject(row), before=before or None, after=after)
        unit.session.flush()
        refuse_stewardless(unit.session, act.directory, act.now)
        return person_view(row, roles.role_names(unit.session, act.directory.id, act.now, row.id))


def _took_off(session: Session, person_id: UUID) -> bool:
    """Take every second factor of a person away; tell whether there was one."""
    device = second_factors.take_off(session, person_id, with_codes=True)
    return passkeys.forget_all(session, person_id) or device


def list_people(
    act: Act, *, query: str = "", active: bool | None = None, after: tuple[str, str] | None = None, limit: int = 50
) -> tuple[list[Person], tuple[str, str] | None, int]:
    """Return a page of people by name, (name, id) of its last one if there are more, and how many are found in all."""
    with act.read() as session:
        rows, total = people.page(session, act.directory.id, query=query, active=active, after=after, limit=limit + 1)
        shown = rows[:limit]
        ids = [row.id for row in shown]
        held = roles.role_names(session, act.directory.id, act.now, *ids)
        with_factor = second_factors.among_people(session, ids)
        belongs = roles.group_names(session, ids)
        by = providers.titles_by_person(session, ids)
        views = [
            person_view(row, held).model_copy(
                update={
                    "second_factor": row.id in with_factor,
                    "groups": belongs.get(row.id, []),
                    "providers": by.get(row.id, []),
                }
            )
            for row in shown
        ]
        return views, (shown[-1].name, str(shown[-1].id)) if len(rows) > limit else None, total


def find_person(session: Session, directory: Directory, reference: str, *, lock: bool = False) -> people.PersonRow:
    """Find by id or login. Raises `NotFound`.

    Args:
        lock: until the transaction ends; whoever signs in as them at this moment is waited for.
    """
    row = people.by_reference(session, directory.id, reference)
    if row is not None and lock:
        session.refresh(row, with_for_update=True)
    if row is None:
        raise NotFound(
            f"{directory.name} has no person “{reference[:80]}”.",
            violations=(Violation("owner", reference[:80], "the login or id of a person of this directory"),),
            next_step="List the people of the directory for the right login.",
        )
    return row


def _add(unit: Unit, listed: ListedPerson) -> Person:
    row = people.PersonRow(
        id=uuid4(),
        directory_id=unit.directory.id,
        login=listed.login,
        name=listed.name,
        created_at=unit.now,
    )
    with unit.constraint("person_login_taken", lambda: _login_taken(listed.login)):
        unit.session.add(row)
    known = {role.name: role.id for role in roles.roles_of(unit.session, unit.directory.id)}
    for name in dict.fromkeys(listed.roles):
        if name not in known:
            raise Unsuited.field("roles", name, "one of " + ", ".join(sorted(known)))
        unit.session.add(
            roles.AssignmentRow(
                id=uuid4(), role_id=known[name], person_id=row.id, assigned_at=unit.now, assigned_by=unit.actor.name
            )
        )
    unit.enter("person.added", _subject(row), after={"login": row.login, "roles": sorted(set(listed.roles))})
    return Person(id=row.id, name=row.name, login=row.login, active=True, roles=tuple(dict.fromkeys(listed.roles)))


def judge_sign_in(unit: Unit, person: people.PersonRow, wanted: Wanted) -> None:
    """Judge what somebody gains who can sign in as a person: all that the person may do.

    Where they could already (they saw the link by which the password was chosen), what a person who acts again may do
    is theirs, too.
    """
    unit.session.flush()
    bench = Bench(unit.session, unit.directory, unit.now)
    power = bench.power_of(str(person.id))
    judge_signing_in(unit, bench, person, power, wanted)


def _join_groups(unit: Unit, listed: Sequence[ListedPerson]) -> list[str]:
    """Put the people of a file into the groups it names; return the groups that were made for it."""
    by_login = {row.login: row for row in people.people_of(unit.session, unit.directory.id)}
    belongs = roles.direct_people(unit.session, unit.directory.id)
    made = []
    for name in dict.fromkeys(name for person in listed for name in person.groups):
        row = roles.group_by_name(unit.session, unit.directory.id, name)
        if row is None:
            check_short_name("groups", name)
            row = roles.GroupRow(id=uuid4(), directory_id=unit.directory.id, name=name, title=name)
            unit.session.add(row)
            unit.session.flush()
            made.append(name)
        inside = {person.id for person in belongs.get(name, ())}
        joining = [
            by_login[person.login]
            for person in listed
            if name in person.groups and by_login[person.login].id not in inside
        ]
        bench = Bench(unit.session, unit.directory, unit.now)
        logins = sorted(person.login for person in joining)
        wanted = Wanted(ActKind.PERSON, f"The group {name}", {"what": "join by a file", "joining": logins})
        for person in joining:
            judge_power(unit, bench, person, bench.group_power(row.id), wanted)
        unit.session.add_all(roles.GroupPersonRow(group_id=row.id, person_id=person.id) for person in joining)
        if joining or name in made:
            subject = {"kind": "group", "id": str(row.id), "name": name}
            unit.enter("group.joined", subject, after={"people": [person.login for person in joining]})
    return made


def set_first_password(act: Act, reference: str, password: str) -> None:
    """Give a person made for a demonstration a password that is shown beside. Only the service itself may."""
    assert act.actor.kind == "service"
    chosen = stretched(act.backend, password)
    with act.change() as unit:
        row = find_person(unit.session, act.directory, reference)
        row.password_hash = chosen
        unit.session.add(row)
        unit.enter("person.changed", _subject(row), after={"password": "given for a demonstration"})


def stretched(backend: Backend, password: str, address: str = "", about: Sequence[str] = ()) -> str:
    """Return what is kept of a password, made outside of any transaction. Raises `BadInput` as `check_password`."""
    check_password(password, *about)
    return backend.hashing.run(lambda: _HASHER.hash(password), address)


def _subject(row: people.PersonRow) -> dict[str, str]:
    return {"kind": "person", "id": str(row.id), "name": row.name}


def _login_taken(login: str) -> NameTaken:
    return NameTaken(f"The login {login} is in use.", violations=(Violation("login", login, "a login not in use"),))
