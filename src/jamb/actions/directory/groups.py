"""Groups of people, nested: make, change, remove, list."""

from __future__ import annotations

from collections.abc import Sequence
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import refuse_stewardless
from jamb.actions.directory.people import find_person
from jamb.actions.judgement.judging import Wanted, judge_power, take_turn
from jamb.actions.judgement.powers import Bench
from jamb.core.consent.agreements import ActKind
from jamb.core.directory.directories import Directory
from jamb.core.directory.groups import holders, refuse_cycle
from jamb.core.directory.roles import check_short_name
from jamb.core.errors import NotFound, StillInUse, Unsuited, Violation, shorten
from jamb.core.nearest_names import did_you_mean, listed
from jamb.store.base.work import Unit
from jamb.store.clients import clients
from jamb.store.directory import providers, roles
from jamb.store.directory.people import PersonRow
from jamb.wire.directory.roles import Group, Member


def list_groups(
    act: Act, query: str = "", after: str | None = None, limit: int = 50
) -> tuple[list[Group], str | None, int]:
    """Return a page of groups by name, the name of its last one when there are more, and how many are found in all.

    Args:
        query: part of a name or title.
    """
    with act.read() as session:
        rows, total = roles.groups_page(session, act.directory.id, query, after, limit + 1)
        shown = rows[:limit]
        return _views(session, act.directory, shown), shown[-1].name if len(rows) > limit else None, total


def check_groups(session: Session, directory: Directory, names: Sequence[str], field: str = "sign_in_groups") -> None:
    """Refuse what would name groups that are not here, as a client that is for their people. Raises `BadInput`."""
    known = {group.name for group in roles.groups_of(session, directory.id)}
    unknown = [name for name in names if name not in known]
    if unknown:
        allowed = ", ".join(sorted(known)[:12]) or "no group yet"
        raise Unsuited.field(field, ", ".join(unknown), f"groups of this directory: {allowed}")


def save_group(act: Act, name: str, title: str, people: Sequence[str], groups: Sequence[str]) -> Group:
    """Make a group, or put these members in place of those it has: people by login or id, groups by name.

    Raises:
        BadInput: an unfit name, or a group that would lie within itself. NotFound: a member is not known here.
        StillInUse: the directory would be left without a steward.
        NeedsAgreement: whoever changes it could do more by it than they may; it waits at the consent desk.
    """
    check_short_name("name", name)
    with act.change() as unit:
        take_turn(unit)
        # One writer at a time, so that two changes together cannot close a ring.
        roles.lock_groups(unit.session, act.directory.id)
        members = {one.id: one for one in (find_person(unit.session, act.directory, person) for person in people)}
        inner = [find_group(unit.session, act.directory, group) for group in dict.fromkeys(groups)]
        refuse_cycle(roles.inner_groups(unit.session, act.directory.id), name, [one.name for one in inner])
        row = roles.group_by_name(unit.session, act.directory.id, name)
        act.expect(
            f"The group {name}",
            lambda: next((group.version for group in _groups(unit.session, act.directory) if group.name == name), ""),
        )
        before = _record(unit.session, act.directory, name) if row is not None else None
        after = {
            "title": " ".join(title.split()) or (row.title if row is not None else name),
            "people": sorted(member.login for member in members.values()),
            "groups": sorted(one.name for one in inner),
        }
        if before != after:
            if row is None:
                row = roles.GroupRow(id=uuid4(), directory_id=act.directory.id, name=name)
            row.title = str(after["title"])
            unit.session.add(row)
            unit.session.flush()
            _judge(unit, row, members, inner, name, str(after["title"]))
            roles.put_members(unit.session, row.id, members, {one.id for one in inner})
            refuse_stewardless(unit.session, act.directory, act.now)
            action = "group.made" if before is None else "group.changed"
            unit.enter(action, _subject(row), before=before, after=after)
        return next(group for group in _groups(unit.session, act.directory) if group.name == name)


def _judge(
    unit: Unit,
    row: roles.GroupRow,
    members: dict[UUID, PersonRow],
    inner: Sequence[roles.GroupRow],
    name: str,
    title: str,
) -> None:
    """Judge what joining a group gives to people as whom the actor can act."""
    session, bench = unit.session, Bench(unit.session, unit.directory, unit.now)
    was = {one.id for one in roles.people_within(session, [row.id]).get(row.id, [])}
    within = roles.people_within(session, [one.id for one in inner])
    joining = {**members, **{person.id: person for found in within.values() for person in found}}
    power_given = bench.group_power(row.id)
    args = {
        "name": name,
        "title": title,
        "people": sorted(member.login for member in members.values()),
        "groups": sorted(one.name for one in inner),
    }
    for key, person in joining.items():
        if key not in was:
            judge_power(unit, bench, person, power_given, Wanted(ActKind.GROUP, f"The group {name}", args))


def remove_group(act: Act, name: str) -> None:
    """Remove a group that holds no role and lies in no other. Raises `StillInUse`, naming what is in the way."""
    with act.change() as unit:
        row = find_group(unit.session, act.directory, name)
        held = roles.roles_of_group(unit.session, row.id, act.now)
        around = [
            holder for holder, inner in roles.inner_groups(unit.session, act.directory.id).items() if name in inner
        ]
        allowing = name in act.directory.policy.registering_groups
        signing = clients.restricted_to(unit.session, act.directory.id, name)
        deciding = [
            one.title for one in providers.providers_of(unit.session, act.directory.id) if name in one.groups.values()
        ]
        if held or around or allowing or signing or deciding:
            ways = [f"the role {one}" for one in held] + [f"the group {one}" for one in around]
            ways += ["the policy on registering"] if allowing else []
            ways += [f"the client “{one}”" for one in signing[:5]]
            # Another group of that name would be filled by whoever runs the provider.
            ways += [f"the sign-in provider {one}" for one in deciding]
            raise StillInUse(
                f"The group {name} still stands in {', '.join(ways)}.",
                violations=(Violation("group", name, "a group that nothing stands on"),),
                next_step="Take it out there first.",
            )
        before = _record(unit.session, act.directory, name)
        roles.put_members(unit.session, row.id, set(), set())
        roles.drop_assignments_of_group(unit.session, row.id)
        unit.session.delete(row)
        unit.enter("group.removed", _subject(row), before=before)


def find_group(session: Session, directory: Directory, name: str) -> roles.GroupRow:
    row = roles.group_by_name(session, directory.id, name)
    if row is None:
        known = [group.name for group in roles.groups_of(session, directory.id)]
        allowed = f"a group of this directory: {listed(known) or 'none yet'}"
        raise NotFound(
            f"{directory.name} has no group “{shorten(name)}”.",
            violations=(Violation("group", shorten(name), allowed, did_you_mean(name, known, "")),),
        )
    return row


def _record(session: Session, directory: Directory, name: str) -> dict[str, object]:
    group = next(one for one in _groups(session, directory) if one.name == name)
    return {
        "title": group.title,
        "people": sorted(person.login for person in group.people),
        "groups": sorted(group.groups),
    }


def _groups(session: Session, directory: Directory) -> list[Group]:
    return _views(session, directory, roles.groups_of(session, directory.id))


def _views(session: Session, directory: Directory, rows: Sequence[roles.GroupRow]) -> list[Group]:
    people = roles.direct_people(session, directory.id)
    inner = roles.inner_groups(session, directory.id)
    return [
        Group(
            name=row.name,
            title=row.title,
            people=tuple(
                Member(id=person.id, name=person.name, login=person.login) for person in people.get(row.name, ())
            ),
            groups=tuple(inner.get(row.name, ())),
            everyone=len({person.id for name in holders(inner, row.name) for person in people.get(name, ())}),
        )
        for row in rows
    ]


def _subject(row: roles.GroupRow) -> dict[str, str]:
    return {"kind": "group", "id": str(row.id), "name": row.name}
