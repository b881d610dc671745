"""Escalation paths are found once, and anew as soon as a record changes or something begins or ends."""

from __future__ import annotations

from datetime import timedelta
from typing import Any

import psycopg
import pytest
from sqlalchemy import event

from jamb.actions.audit import escalation_paths
from jamb.actions.audit.escalation_paths import MOST_KEPT, keep_escalation_paths, read_escalation_paths
from jamb.actions.clients.registrations import change_owners
from jamb.actions.consent import asks, consent
from jamb.actions.directory import people
from jamb.actions.directory.directories import change_policy
from jamb.actions.directory.roles import assign_role
from jamb.actions.resources.resources import publish
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE
from jamb.wire.audit.escalation import Escalation
from tests.actions.scene import NOW, QUAY, Scene


def read(scene: Scene, at: timedelta = timedelta()) -> tuple[Escalation, bool]:
    """What a reader is told, which is what is found from nothing; and whether it was kept."""
    asked: list[str] = []

    def note(*given: Any) -> None:
        asked.append(given[2])

    event.listen(scene.backend.engine, "before_cursor_execute", note)
    told = read_escalation_paths(scene.act(at=at))
    event.remove(scene.backend.engine, "before_cursor_execute", note)
    kept = not any("role_assignment" in statement for statement in asked)
    assert told == read_escalation_paths(scene.act(at=at), MOST_KEPT + 1)
    return told, kept


def test_what_was_found_is_told_until_it_can_be_another(scene: Scene) -> None:
    scene.client()
    first, kept = read(scene)
    assert not kept
    assert read(scene) == (first, True)
    ends = NOW + timedelta(minutes=20)
    assign_role(
        scene.act(at=timedelta(seconds=1)), "custodian", HolderKind.PERSON, ["tom@alder.example"], EVERYWHERE, ends
    )
    steps = {
        timedelta(seconds=2): False,  # a role is news
        timedelta(minutes=19): True,
        timedelta(minutes=21): False,  # its end, too, of which the ledger has no entry
        timedelta(minutes=80): True,
        timedelta(minutes=82): False,  # no longer than an hour
        timedelta(minutes=70): False,  # found by a clock that is ahead of this one
    }
    assert {at: read(scene, at)[1] for at in steps} == steps


def test_whoever_asks_is_answered_where_nothing_can_be_kept(scene: Scene) -> None:
    with psycopg.connect(scene.url) as database:
        database.execute(
            "create function no_room() returns trigger language plpgsql as $$ begin raise exception 'full'; end $$"
        )
        database.execute("create trigger no_room before insert on escalation for each row execute function no_room()")
    assert read(scene)[1] is False
    assert read(scene)[1] is False


def test_of_a_large_directory_a_round_finds_them(scene: Scene, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(escalation_paths, "MOST_AT_ONCE", 0)
    monkeypatch.setattr(escalation_paths, "LONGEST_WAITED", timedelta())
    publish(scene.act(), QUAY)
    client = scene.client()
    asks.ask(scene.act("tom"), client.id, "quay", ["quay.read"], AccessKind.APPLICATION, "for the board")
    consent.grant(scene.act("vera"), client.id, None, "it is light")
    people.add_person(scene.act(), "ada@alder.example", "Ada", [])
    change_owners(scene.act(), client.id, ["ada@alder.example"], [])
    hour = timedelta(hours=1)
    assert not keep_escalation_paths(scene.act()), "nobody asks"
    nothing = read_escalation_paths(scene.act())
    assert (nothing.found, nothing.paths) == (False, [])
    assert keep_escalation_paths(scene.act(at=hour))
    assert not keep_escalation_paths(scene.act(at=hour * 1.5)), "nothing changed"
    first = read_escalation_paths(scene.act(at=hour * 1.5))
    assert (first.found, first.as_of, first.pairs) == (True, None, 0)
    # By what the policy calls strong from now on, Ada, who may do nothing, can act as what is strong.
    change_policy(scene.act(at=hour * 2), {"two_people_weight": 1, "two_approvers_weight": 1})
    earlier = read_escalation_paths(scene.act(at=hour * 2))
    assert earlier == first.model_copy(update={"as_of": NOW + hour})
    assert keep_escalation_paths(scene.act(at=hour * 3))
    now = read_escalation_paths(scene.act(at=hour * 3))
    assert (now.as_of, now.pairs > 0) == (None, True)
    assert read_escalation_paths(scene.act(at=hour * 3), 1).paths[0] == now.paths[0]
    # Nobody read them for a day: they wait until somebody does.
    assert not keep_escalation_paths(scene.act(at=hour * 40))
