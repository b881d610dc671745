"""Anything is found by a word; whoever may list a thing finds it, and nobody else."""

from __future__ import annotations

import pytest

from jamb.client import BadInput
from jamb.core.lists import FoundKind
from tests.world import World, unique


def found(world: World, role: str | None, text: str) -> dict[FoundKind, list[str]]:
    rows: dict[FoundKind, list[str]] = {}
    with world.jamb(role) as jamb:
        for one in jamb.search(text):
            rows.setdefault(one.kind, []).append(one.name)
    return rows


@pytest.mark.parametrize(
    ("text", "kind", "name"),
    [
        ("BERTH BOARD", FoundKind.CLIENT, "Berth board"),
        ("oskar.pell@", FoundKind.PERSON, "Oskar Pell"),
        ("harbour-office", FoundKind.GROUP, "harbour-office"),
        ("quay-hand", FoundKind.ROLE, "quay-hand"),
        ("https://berths.", FoundKind.RESOURCE, "Berths"),
        ("berths.assign", FoundKind.PERMISSION, "berths.assign"),
        ("Close a berth", FoundKind.OPERATION, "berth.close"),
    ],
)
def test_each_kind_is_found_by_what_people_know_of_it(world: World, text: str, kind: FoundKind, name: str) -> None:
    assert name in found(world, "auditor", text)[kind]


def test_a_credential_is_found_by_its_hint_and_a_client_by_its_id(world: World) -> None:
    made = world.client()
    with world.jamb("auditor") as jamb:
        (credential,) = jamb.clients.read(made.id).credentials
        hint = credential.hint.rstrip("…")
        (one,) = [row for row in jamb.search(hint) if row.kind is FoundKind.CREDENTIAL]
        assert (one.id, one.more) == (made.id, credential.hint)
        assert [row.name for row in jamb.search(made.id)] == [made.name]


def test_what_begins_with_the_word_comes_first_and_few_of_a_kind_come(world: World) -> None:
    word = unique("zeb")
    with world.jamb() as steward:
        for number in range(8):
            steward.clients.register(f"A{number} {word}", "Is found")
        first = steward.clients.register(f"{word} itself", "Is found")
    names = found(world, "auditor", word)[FoundKind.CLIENT]
    assert (names[0], len(names)) == (first.name, 6)


def test_an_owner_finds_their_clients_and_no_others_nor_people(world: World) -> None:
    word, owner = unique("owned"), world.person(None)["login"]
    with world.jamb() as steward:
        theirs = steward.clients.register(f"{word} theirs", "Is found", owners=[owner])
        steward.clients.register(f"{word} other", "Is not found")
    assert found(world, None, word) == {FoundKind.CLIENT: [theirs.name]}
    assert FoundKind.PERSON not in found(world, None, "oskar")


@pytest.mark.parametrize("text", ["%", "_", "\\", "a' or 'a", "ж" * 40])
def test_signs_of_patterns_are_signs(world: World, text: str) -> None:
    assert found(world, "auditor", f"{text}%%"[:100]) == {}


def test_one_letter_is_too_little(world: World) -> None:
    with world.jamb("auditor") as jamb, pytest.raises(BadInput):
        jamb.search("a")
