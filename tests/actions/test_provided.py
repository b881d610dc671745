"""An outside provider vouches for many at once, for the last steward, and then is removed."""

from __future__ import annotations

from dataclasses import replace
from uuid import UUID

import pytest
from sqlmodel import Session, select

from jamb.actions.base.act import Act, act_in
from jamb.actions.directory import groups, people, roles
from jamb.actions.directory.providers import remove_provider, save_provider
from jamb.actions.entry.provided import sign_in
from jamb.actions.entry.sessions import SignedIn, Visitor
from jamb.core import own_api
from jamb.core.directory.providers import Provider, Refused
from jamb.core.directory.roles import HolderKind
from jamb.core.errors import BadInput, NobodyToAgree, StillInUse
from jamb.core.reach import EVERYWHERE
from jamb.store.directory.providers import ProviderRow
from tests.actions.scene import MANY, NOW, Scene, at_once

OFFICE = Provider("office", "Office", "https://office.example", "jamb", True, "groups", {"Wardens": "wardens"})


@pytest.fixture
def service(scene: Scene) -> Act:
    return act_in(scene.backend, "alder", NOW)


@pytest.fixture
def office(scene: Scene, service: Act) -> UUID:
    groups.save_group(service, "wardens", "Wardens", [], [])
    save_provider(service, OFFICE, "known to both", "For the office")
    with Session(scene.backend.engine) as session:
        return session.exec(select(ProviderRow.id)).one()


def came(scene: Scene, office: UUID, login: str, *inside: str) -> SignedIn | Refused:
    said = {"sub": login, "email": f"{login}@alder.example", "email_verified": True, "groups": [*inside]}
    return sign_in(scene.backend, "alder", office, said, Visitor("127.0.0.1"), NOW)


@pytest.mark.parametrize("login", ["tom", "somebody-new"])
def test_one_person_who_comes_many_times_at_once_is_let_in_each_time(
    scene: Scene, service: Act, office: UUID, login: str
) -> None:
    done, failed = at_once(lambda _: came(scene, office, login, "Wardens"))
    assert not failed
    assert [isinstance(one, SignedIn) for one in done] == [True] * MANY
    assert [person.login for person in people.list_people(service)[0]].count(f"{login}@alder.example") == 1
    assert scene.sound()


def test_a_provider_takes_no_directory_its_last_steward(scene: Scene, service: Act, office: UUID) -> None:
    groups.save_group(service, "wardens", "Wardens", ["ines@alder.example"], [])
    roles.assign_role(service, own_api.STEWARD, HolderKind.GROUP, ["wardens"], EVERYWHERE, None)
    roles.withdraw_role(service, own_api.STEWARD, HolderKind.PERSON, ["ines@alder.example"])
    assert isinstance(came(scene, office, "ines"), SignedIn)
    ((wardens,), _, _) = groups.list_groups(service)
    assert [member.name for member in wardens.people] == ["Ines"]


def test_a_provider_that_is_removed_meanwhile_lets_nobody_in(scene: Scene, service: Act, office: UUID) -> None:
    remove_provider(service, "office", "It closed")
    assert came(scene, office, "tom") is Refused.LATE


def test_a_group_that_a_provider_decides_about_is_not_removed(scene: Scene, service: Act, office: UUID) -> None:
    """Another group of that name would be filled by whoever runs the provider."""
    with pytest.raises(StillInUse, match="the sign-in provider Office"):
        groups.remove_group(service, "wardens")
    with pytest.raises(BadInput, match="groups: groups of this directory: wardens"):
        save_provider(service, replace(OFFICE, groups={"Wardens": "keepers"}), None, "Another group")
    remove_provider(service, "office", "")
    groups.remove_group(service, "wardens")


def test_another_secret_needs_nobody_elses_yes_another_client_does_and_another_issuer_is_refused(
    scene: Scene, office: UUID
) -> None:
    save_provider(scene.act(), OFFICE, "a newer one", "The office changed it")
    with pytest.raises(NobodyToAgree):
        save_provider(scene.act(), replace(OFFICE, client_id="jamb anew"), None, "It was registered anew")
    with pytest.raises(BadInput, match="stays"):
        save_provider(scene.act(), replace(OFFICE, issuer="https://elsewhere.example"), None, "It moved")
