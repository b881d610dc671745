"""Whose role counts for some clients alone hears of these alone, sees no calendar of all, and is named for no other."""

from __future__ import annotations

from datetime import timedelta
from uuid import UUID

import pytest
from sqlmodel import Session, select

from jamb.actions.base.act import Caller
from jamb.actions.base.backend import command_line_client_id
from jamb.actions.base.lookups import find_directory
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.directory import groups, people, roles
from jamb.actions.entry.access import admit
from jamb.actions.notices import calendar, notices
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import Forbidden, NotFound
from jamb.core.reach import EVERYWHERE, Reach
from jamb.store.notices.notices import NoticeRow
from tests.actions.scene import NOW, Scene

DAY = timedelta(days=1)


def heard(scene: Scene, person: UUID) -> list[str]:
    """Of which clients somebody was told, and of what is about none by its kind."""
    with Session(scene.backend.engine) as session:
        rows = session.exec(select(NoticeRow).where(NoticeRow.person_id == person))
        return sorted({row.client_id or row.kind for row in rows})


@pytest.mark.parametrize("by_group", [False, True], ids=["themselves", "by a group"])
def test_notices_go_to_whom_the_client_concerns(scene: Scene, by_group: bool) -> None:
    mine, other = scene.client("Mine"), scene.client("Other")
    for client in (mine, other):
        add_credential(scene.act(), client.id, SecretIssued(days=1), "host")
    ada, ben = (people.add_person(scene.act(), f"{name}@alder.example", name.title(), []) for name in ("ada", "ben"))
    holder = (HolderKind.PERSON, ["ada@alder.example"])
    if by_group:
        groups.save_group(scene.act(), "watch", "Watch", ["ada@alder.example"], [])
        holder = (HolderKind.GROUP, ["watch"])
    for role in ("custodian", "auditor"):
        roles.assign_role(scene.act(), role, *holder, Reach.only(mine.id), None)
        roles.assign_role(scene.act(), role, HolderKind.PERSON, ["ben@alder.example"], EVERYWHERE, None)
    notices.tell(scene.backend, "alder", NOW + DAY / 2)
    assert heard(scene, ada.id) == [mine.id]
    assert heard(scene, ben.id) == sorted([mine.id, other.id])


def test_a_calendar_of_all_ends_with_the_role_that_counted_everywhere(scene: Scene) -> None:
    mine = scene.client("Mine")
    key = calendar.make_feed(scene.act("vera"), whole=True)
    assert calendar.read_feed(scene.backend, "alder", key, NOW).name == "Alder Works: credentials"
    roles.withdraw_role(scene.act(), "approver", HolderKind.PERSON, ["vera@alder.example"])
    roles.assign_role(scene.act(), "approver", HolderKind.PERSON, ["vera@alder.example"], Reach.only(mine.id), None)
    with pytest.raises(NotFound):
        calendar.read_feed(scene.backend, "alder", key, NOW)


def test_nobody_is_named_who_could_not_do_it_either(scene: Scene) -> None:
    mine, other = scene.client("Mine"), scene.client("Other")
    people.add_person(scene.act(), "ada@alder.example", "Ada", [])
    roles.assign_role(scene.act(), "custodian", HolderKind.PERSON, ["ada@alder.example"], Reach.only(mine.id), None)
    vera = Caller(command_line_client_id("alder"), scene.people["vera"].id)
    named = {}
    for client in (mine, other):
        with Session(scene.backend.engine) as session, pytest.raises(Forbidden) as refused:
            directory = find_directory(session, "alder")
            admit(session, scene.backend, directory, vera, "credentials.issue", NOW, client.id)
        named[client.name] = "Ada" in refused.value.next_step
    assert named == {"Mine": True, "Other": False}
