"""Changes of the service as a whole: in every directory or in none, one after the other, each in every ledger."""

from __future__ import annotations

import pytest
from sqlmodel import Session

from jamb.actions.base.all_directories import OPERATOR, change_everywhere
from jamb.actions.directory.addresses import address_fault, former_addresses, move
from jamb.actions.directory.directories import open_directory
from jamb.actions.directory.opening import list_directories, set_suspended
from jamb.actions.directory.sealing_keys import add_sealing_key, end_other_keys
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.errors import Conflict, NotFound, Unsuited
from jamb.store.base import sealing_marks
from jamb.store.base.sealing import KEY_BYTES, SealingKey
from tests.actions.scene import ADDRESS, KEY, MANY, NOW, Scene, at_once

LATER = "https://id.alder.example"
OTHER = SealingKey(b"o" * KEY_BYTES)


@pytest.fixture
def two(scene: Scene) -> Scene:
    """The scene with a second directory."""
    open_directory(scene.backend, "birch", "Birch Yard", "birch.example", DirectoryPolicy(), OPERATOR, NOW)
    return scene


def test_of_many_that_open_a_directory_by_one_name_one_does(scene: Scene) -> None:
    def open_birch(_: int) -> object:
        return open_directory(scene.backend, "birch", "Birch Yard", "birch.example", DirectoryPolicy(), OPERATOR, NOW)

    done, failed = at_once(open_birch)
    assert (len(done), failed) == (1, {"NameTaken": MANY - 1})
    assert [one.slug for one in list_directories(scene.backend, NOW)] == ["alder", "birch"]
    assert scene.entries("birch") == ["directory.opened"], "nothing is half made of those that lost"
    assert scene.sound("birch")


def test_no_directory_is_opened_at_another_address_while_the_service_moves(two: Scene) -> None:
    def step(number: int) -> object:
        if number == 0:
            return move(two.elsewhere(LATER), 7, NOW)
        address = ADDRESS if number % 2 else LATER
        slug = f"cedar-{number}"
        return open_directory(two.elsewhere(address), slug, "Cedar", "cedar.example", DirectoryPolicy(), OPERATOR, NOW)

    _, failed = at_once(step)
    assert set(failed) <= {"Conflict"}, "whoever is late is told where the others are"
    faults = {address: address_fault(two.backend.engine, address) for address in (ADDRESS, LATER)}
    assert sorted(map(bool, faults.values())) == [False, True], "all are at one address"


def test_a_move_is_in_every_ledger_and_keeps_the_former_address_for_a_time(two: Scene) -> None:
    moved = move(two.elsewhere(LATER), 7, NOW)
    assert moved == {"alder": ADDRESS, "birch": ADDRESS}
    for slug in moved:
        assert two.entries(slug)[-1] == "directory.moved"
        assert two.sound(slug)
    assert [url for url, _ in former_addresses(two.backend, NOW)] == [ADDRESS]
    with pytest.raises(Conflict, match="already"):
        move(two.elsewhere(LATER), 7, NOW)
    with pytest.raises(Unsuited, match="0 to 366"):
        move(two.backend, 367, NOW)
    move(two.backend, 0, NOW)
    assert former_addresses(two.backend, NOW) == (), "back again, and the address in between holds no longer"


def test_what_fails_in_the_last_directory_is_done_in_none(two: Scene) -> None:
    before = two.entries("alder"), two.entries("birch")
    with pytest.raises(RuntimeError), change_everywhere(two.backend, NOW) as units:
        for unit in units:
            unit.enter("directory.renamed", {"kind": "directory", "id": "x", "name": "x"})
            if unit.directory.slug == "birch":
                raise RuntimeError
    assert (two.entries("alder"), two.entries("birch")) == before


def test_a_change_that_is_left_midway_is_not_done(two: Scene) -> None:
    with change_everywhere(two.backend, NOW) as units:
        next(units).enter("directory.renamed", {"kind": "directory", "id": "x", "name": "x"})
    assert two.entries("birch") == ["directory.opened"]
    assert two.sound("alder")


def test_of_many_sealing_keys_that_are_added_at_once_one_is(two: Scene) -> None:
    keys = [SealingKey(bytes([number]) * KEY_BYTES) for number in range(1, MANY + 1)]
    done, failed = at_once(lambda number: add_sealing_key(two.elsewhere(), keys[number], "rotation", NOW))
    assert (len(done), failed) == (1, {"Conflict": MANY - 1})
    with Session(two.backend.engine) as session:
        assert len(sealing_marks.kept_marks(session)) == 2
    assert two.entries("birch").count("sealing-key.added") == 1


def test_another_sealing_key_opens_what_the_first_sealed_and_then_alone(two: Scene) -> None:
    add_sealing_key(two.backend, OTHER, "rotation", NOW)
    with Session(two.backend.engine) as session:
        marks = sealing_marks.kept_marks(session)
    assert OTHER.open_root(marks[OTHER.mark]) == KEY.open_root(marks[KEY.mark])
    with pytest.raises(Conflict, match="opens"):
        add_sealing_key(two.backend, OTHER, "again", NOW)
    assert end_other_keys(two.backend, "rotation", NOW) == 1
    with pytest.raises(Conflict, match="No other"):
        end_other_keys(two.backend, "again", NOW)
    assert two.entries("alder")[-2:] == ["sealing-key.added", "sealing-key.ended"] == two.entries("birch")[-2:]


def test_of_many_that_suspend_a_directory_one_does_and_it_is_told_once(scene: Scene) -> None:
    done, failed = at_once(lambda _: set_suspended(scene.elsewhere(), "alder", "an audit", NOW, suspended=True))
    assert (len(done), failed) == (1, {"Conflict": MANY - 1})
    assert scene.entries().count("directory.suspended") == 1


def test_nothing_is_changed_everywhere_where_there_is_no_directory(scene: Scene) -> None:
    with pytest.raises(NotFound):
        set_suspended(scene.backend, "birch", "", NOW, suspended=True)
