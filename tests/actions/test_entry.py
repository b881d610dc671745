"""How people come in: links that open once, however many hold them, and passwords that are tried."""

from __future__ import annotations

from dataclasses import replace
from datetime import timedelta
from uuid import UUID

import pytest
from sqlmodel import Session

from jamb.actions.base.act import Caller
from jamb.actions.base.backend import command_line_client_id
from jamb.actions.directory.people import change_person, import_people
from jamb.actions.directory.sign_in_links import Presented, choose_password, look_at_link, make_link
from jamb.actions.entry.access import MOST_NAMED, may_register
from jamb.core.directory.sign_in_links import SignInLinkState
from jamb.core.errors import AlreadyEnded, BadInput, NotFound
from tests.actions.scene import MANY, NOW, PASSWORD, Scene, at_once


def presented(link: str, address: str = "192.0.2.7") -> Presented:
    before, _, key = link.partition("#")
    return Presented(UUID(before.rsplit("/", 1)[1]), key, address)


def fresh_link(scene: Scene, hours: int = 24) -> Presented:
    return presented(make_link(scene.act(), "tom@alder.example", hours, mailed=False).link)


def state(scene: Scene, link: Presented, after: timedelta = timedelta()) -> SignInLinkState:
    return look_at_link(scene.backend, link, NOW + after).state


def test_of_many_who_open_one_link_one_chooses_the_password(scene: Scene) -> None:
    link = fresh_link(scene)

    def choose(number: int) -> None:
        choose_password(scene.backend, replace(link, address=f"192.0.2.{number}"), f"{PASSWORD} {number}", NOW)

    done, failed = at_once(choose)
    assert (len(done), failed) == (1, {"AlreadyEnded": MANY - 1})
    entries = scene.entries()
    assert entries.count("sign-in-link.used") == 1
    assert 1 <= entries.count("sign-in-link.tried-again") <= 3 + MANY, "the first tries are told"
    for _ in range(5):
        with pytest.raises(AlreadyEnded, match="used"):
            choose_password(scene.backend, link, PASSWORD, NOW)
    told = scene.entries().count("sign-in-link.tried-again")
    with pytest.raises(AlreadyEnded):
        choose_password(scene.backend, link, PASSWORD, NOW)
    assert scene.entries().count("sign-in-link.tried-again") == told, "strangers do not fill the ledger"
    assert scene.sound()


def test_a_later_link_is_the_only_one_that_opens(scene: Scene) -> None:
    first, second = fresh_link(scene), fresh_link(scene)
    assert (state(scene, first), state(scene, second)) == (SignInLinkState.REPLACED, SignInLinkState.WAITING)
    with pytest.raises(AlreadyEnded, match="later"):
        choose_password(scene.backend, first, PASSWORD, NOW)
    choose_password(scene.backend, second, PASSWORD, NOW)


def test_links_made_at_the_same_moment_leave_one_that_opens(scene: Scene) -> None:
    links, failed = at_once(lambda _: fresh_link(scene))
    assert not failed
    waiting = [link for link in links if state(scene, link) is SignInLinkState.WAITING]
    assert len(waiting) == 1


def test_a_link_runs_out_and_opens_for_nobody_without_its_key(scene: Scene) -> None:
    link = fresh_link(scene, hours=1)
    assert state(scene, link, timedelta(minutes=59)) is SignInLinkState.WAITING
    with pytest.raises(AlreadyEnded, match="ran out"):
        choose_password(scene.backend, link, PASSWORD, NOW + timedelta(minutes=61))
    for key in ("", "x" * 43, link.key_text[:-1]):
        with pytest.raises(NotFound, match="no such sign-in link"):
            look_at_link(scene.backend, Presented(link.link_id, key, ""), NOW)


def test_what_does_not_fit_uses_the_link_up_for_nobody(scene: Scene) -> None:
    link = fresh_link(scene)
    with pytest.raises(BadInput, match="password"):
        choose_password(scene.backend, link, "short", NOW)
    assert state(scene, link) is SignInLinkState.WAITING


def test_who_may_not_act_here_gets_no_link(scene: Scene) -> None:
    change_person(scene.act(), "tom@alder.example", active=False)
    with pytest.raises(BadInput, match="may act here"):
        fresh_link(scene)


def test_of_many_whom_one_could_ask_a_few_are_named(scene: Scene) -> None:
    listed = "\n".join(["login,name,roles", *(f"p{n}@alder.example,Person {n:02},registrar" for n in range(20))])
    import_people(scene.act(), listed)
    caller = Caller(command_line_client_id("alder"), scene.people["vera"].id)
    with Session(scene.backend.engine) as session:
        told = may_register(session, scene.act().directory, caller, NOW)
    assert told.allowed is False
    assert told.ask == sorted(["Ines", "Tom", *(f"Person {n:02}" for n in range(20))])[:MOST_NAMED]
