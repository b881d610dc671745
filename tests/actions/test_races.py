"""Many at the same moment: one wins, every other learns what happened, and nothing is half done."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from datetime import timedelta

import pytest
from sqlmodel import Session, select

from jamb.actions.base.act import act_in
from jamb.actions.clients import clients, registrations, removals
from jamb.actions.consent import asks, consent, consent_changes, requests
from jamb.actions.credentials import credentials, rotations
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.credentials.opening import open_rotation
from jamb.actions.directory import groups, people, roles
from jamb.actions.resources.resources import publish
from jamb.core import own_api
from jamb.core.clients.clients import ClientKind, ClientState, registration
from jamb.core.consent.requests import RequestEvent
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE
from jamb.store.credentials.credentials import CredentialRow
from tests.actions.scene import MANY, NOW, PASSWORD, QUAY, Scene, at_once


@pytest.fixture(autouse=True)
def ledger_stays_sound(scene: Scene) -> Iterator[None]:
    yield
    assert scene.sound()


def one_wins(work: Callable[[int], object], error: str, many: int = MANY) -> object:
    done, failed = at_once(work, many)
    assert (len(done), failed) == (1, {error: many - 1})
    return done[0]


# Registrations


def test_of_many_that_register_one_name_one_does(scene: Scene) -> None:
    one_wins(lambda _: scene.client("Quay Board"), "NameTaken")
    assert scene.entries().count("client.registered") == 1


def test_under_one_key_a_client_is_registered_once_and_all_learn_which(scene: Scene) -> None:
    wanted = registration("Quay Board", "Shows the quay", ClientKind.SERVICE)
    act = scene.act("tom", once="set-up-7")
    made = one_wins(lambda _: registrations.register(act, wanted, []), "DoneBefore")
    with pytest.raises(Exception, match="was done") as caught:
        registrations.register(act, wanted, [])
    assert caught.value.made["client"] == made.id  # type: ignore[attr-defined]


def test_two_keys_for_one_name_are_two_wishes(scene: Scene) -> None:
    wanted = registration("Quay Board", "Shows the quay", ClientKind.SERVICE)
    one_wins(lambda number: registrations.register(scene.act("tom", once=f"key-{number}"), wanted, []), "NameTaken")


def test_of_many_that_disable_a_client_one_does(scene: Scene) -> None:
    client = scene.client()
    one_wins(lambda _: clients.set_state(scene.act(), client.id, ClientState.DISABLED, "odd calls"), "Unsuited")


def test_no_secret_stands_at_a_client_that_is_removed_meanwhile(scene: Scene) -> None:
    client = scene.client()
    clients.set_state(scene.act(), client.id, ClientState.DISABLED, "it goes")

    def step(number: int) -> object:
        if number == 0:
            return removals.remove(scene.act(), client.id, "it goes")
        if number == 1:
            return clients.set_state(scene.act(), client.id, ClientState.LIVE, "it stays")
        return add_credential(scene.act(), client.id, SecretIssued(), f"host {number}")

    _, failed = at_once(step)
    assert set(failed) <= {"Conflict", "NotFound", "StillInUse"}, failed
    removed = client.id in {one.client_id for one in removals.list_removed(scene.act())[0]}
    with Session(scene.backend.engine) as session:
        rows = session.exec(select(CredentialRow).where(CredentialRow.client_id == client.id)).all()
    assert not (removed and any(row.stands(NOW) for row in rows))


# Credentials


def test_never_more_credentials_stand_than_the_policy_allows(scene: Scene) -> None:
    client = scene.client()
    at_most = DirectoryPolicy().credentials_at_once
    done, failed = at_once(lambda n: add_credential(scene.act(), client.id, SecretIssued(), f"host {n}"))
    assert (len(done), failed) == (at_most, {"Conflict": MANY - at_most})
    assert len({added.sheets[0].secret for added in done}) == at_most


def test_of_many_that_replace_one_secret_one_opens_the_rotation(scene: Scene) -> None:
    client = scene.client()
    old = add_credential(scene.act(), client.id, SecretIssued(), "host").credential.id
    one_wins(lambda _: open_rotation(scene.act(), client.id, old, None, None, None), "Conflict")
    with Session(scene.backend.engine) as session:
        rows = session.exec(select(CredentialRow).where(CredentialRow.client_id == client.id)).all()
    assert sum(row.stands(NOW) for row in rows) == 2, "no secret of those that lost is left"


def test_a_rotation_ends_once(scene: Scene) -> None:
    client = scene.client()
    old = add_credential(scene.act(), client.id, SecretIssued(), "host").credential.id
    opened = open_rotation(scene.act(), client.id, old, None, None, None).rotation.id

    def step(number: int) -> object:
        if number % 2:
            return rotations.close(scene.act(), client.id, opened, True, "moved over")
        return rotations.abandon(scene.act(), client.id, opened, "not now")

    done, failed = at_once(step)
    assert (len(done), failed.total()) == (1, MANY - 1)
    assert set(failed) <= {"Conflict", "AlreadyEnded", "StillInUse"}
    ended = [entry for entry in scene.entries() if entry in {"rotation.closed", "rotation.abandoned"}]
    assert len(ended) == 1


def test_of_many_that_withdraw_a_secret_one_does(scene: Scene) -> None:
    client = scene.client()
    made = add_credential(scene.act(), client.id, SecretIssued(), "host").credential.id
    one_wins(lambda _: credentials.withdraw(scene.act(), client.id, made, "in a log"), "AlreadyEnded")


# Consent


@pytest.fixture
def asked(scene: Scene) -> str:
    """A client that asks to read the quay."""
    publish(scene.act(), QUAY)
    client = scene.client()
    asks.ask(scene.act("tom"), client.id, "quay", ["quay.read"], AccessKind.APPLICATION, "for the board")
    return client.id


def test_of_many_that_ask_for_one_permission_one_does(scene: Scene) -> None:
    publish(scene.act(), QUAY)
    client = scene.client()
    one_wins(
        lambda _: asks.ask(scene.act("tom"), client.id, "quay", ["quay.read"], AccessKind.APPLICATION, "for it"),
        "AlreadyAsked",
    )


def test_of_many_who_consent_one_does_and_one_consent_stands(scene: Scene, asked: str) -> None:
    one_wins(lambda _: consent.grant(scene.act("vera"), asked, None, "it is light"), "NothingToGrant")
    assert [one.permission for one in consent.list_consents(scene.act(), asked)] == ["quay.read"]


def test_a_request_has_one_end_whoever_decides_it(scene: Scene, asked: str) -> None:
    made = requests.make_request(scene.act("tom"), asked, None, "the board needs it", {}, False).id

    def step(number: int) -> object:
        if number % 3 == 2:
            return requests.withdraw_request(scene.act("tom"), asked, made)
        event = RequestEvent.GRANT if number % 3 else RequestEvent.DECLINE
        return requests.decide_request(scene.act("vera"), made, event, None, None, "so it is")

    one_wins(step, "AlreadyDecided")
    ends = {"request.declined", "request.withdrawn", "consent.granted"}
    [ended] = [one for one in scene.entries() if one in ends]
    assert bool(consent.list_consents(scene.act(), asked)) == (ended == "consent.granted")


def test_of_many_who_take_a_consent_away_one_does(scene: Scene, asked: str) -> None:
    consent.grant(scene.act("vera"), asked, None, "it is light")
    one_wins(
        lambda _: consent_changes.withdraw(
            scene.act("vera"), asked, "quay", ["quay.read"], AccessKind.APPLICATION, "no longer"
        ),
        "NothingToWithdraw",
    )
    assert not consent.list_consents(scene.act(), asked)


# People


def second_steward(scene: Scene) -> None:
    people.set_first_password(act_in(scene.backend, "alder", NOW), "vera@alder.example", PASSWORD)
    roles.assign_role(scene.act(), own_api.STEWARD, HolderKind.PERSON, ["vera@alder.example"], EVERYWHERE, None)


def test_two_stewards_who_shut_each_other_out_leave_one(scene: Scene) -> None:
    second_steward(scene)
    pair = ("ines", "vera")
    done, failed = at_once(
        lambda n: people.change_person(scene.act(pair[n]), f"{pair[1 - n]}@alder.example", active=False), many=2
    )
    assert (len(done), failed) == (1, {"StillInUse": 1})


def test_a_steward_who_is_shut_out_while_the_other_gives_the_role_back_stays(scene: Scene) -> None:
    second_steward(scene)

    def step(number: int) -> object:
        if number:
            return people.change_person(scene.act("ines"), "vera@alder.example", active=False)
        return roles.withdraw_role(scene.act("vera"), own_api.STEWARD, HolderKind.PERSON, ["ines@alder.example"])

    done, failed = at_once(step, many=2)
    assert (len(done), failed) == (1, {"StillInUse": 1})


def test_two_groups_that_are_put_into_each_other_make_no_ring(scene: Scene) -> None:
    groups.save_group(scene.act(), "berth-desk", "", [], [])
    groups.save_group(scene.act(), "pilots", "", [], [])
    pair = ("berth-desk", "pilots")
    one_wins(lambda n: groups.save_group(scene.act(), pair[n], "", [], [pair[1 - n]]), "Unsuited", many=2)


def test_of_many_that_take_in_one_list_of_people_one_adds_them(scene: Scene) -> None:
    listed = "login,name,groups\nola@alder.example,Ola Reed,pilots\n"
    done, failed = at_once(lambda _: people.import_people(scene.act(), listed))
    assert sum(len(one.added) for one in done) == 1
    assert set(failed) <= {"NameTaken", "Conflict"}, "whoever is late is told so, or finds them there"


def test_an_owner_who_is_added_and_removed_at_once_is_one_of_both(scene: Scene) -> None:
    client = scene.client()

    def step(number: int) -> object:
        who = ["vera@alder.example"]
        return registrations.change_owners(scene.act(), client.id, who if number % 2 else [], [] if number % 2 else who)

    done, failed = at_once(step)
    assert done
    assert set(failed) <= {"Unsuited"}
    told = scene.entries().count("owners.changed")
    assert told == len(done), "each change is told once"


# A moment later


def test_what_lasts_until_a_moment_is_gone_at_it(scene: Scene, asked: str) -> None:
    until = NOW + timedelta(days=1)
    roles.assign_role(scene.act(), "auditor", HolderKind.PERSON, ["tom@alder.example"], EVERYWHERE, until)
    listed = {one.login: one.roles for one in people.list_people(scene.act(at=timedelta(hours=23)))[0]}
    assert "auditor" in listed["tom@alder.example"]
    listed = {one.login: one.roles for one in people.list_people(scene.act(at=timedelta(days=1)))[0]}
    assert "auditor" not in listed["tom@alder.example"]
