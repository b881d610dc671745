"""Two who edit the same: whoever saves second is told, and overwrites nothing (RFC 9110 sections 13.1.1 and 13.1.2)."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from jamb.client import Jamb, Outdated
from jamb.core.audit.reviews import Answer
from jamb.wire.directory.roles import RoleSent
from jamb.wire.resources.reach import CollectionSent
from jamb.wire.resources.resources import ResourceSent
from tests.cli.run import Shell
from tests.world import World, unique

HERE = "/api/v1/directories/quillhaven"
Edit = Callable[[Jamb, str, str | None, str], object]


def slug(what: str) -> str:
    return unique(what).lower().replace(" ", "-")


def resource(title: str, name: str) -> ResourceSent:
    operation = {
        "name": "see",
        "title": "See",
        "method": "GET",
        "path": "/{box}",
        "effect": "read",
        "data_class": "open",
    }
    permission = {"name": "see", "title": "See", "kinds": ["application"], "unlocks": ["see"]}
    return ResourceSent.model_validate(
        {
            "title": title,
            "identifier": f"https://{name}.quillhaven.example",
            "object_name": "box",
            "operations": [operation],
            "permissions": [permission],
        }
    )


def registration(steward: Jamb) -> tuple[str, Callable[[str], str], Edit]:
    made = steward.clients.register(unique("Edited"), "First said")
    return made.id, lambda key: steward.clients.read(key).client.version, _change


def _change(jamb: Jamb, key: str, seen: str | None, text: str) -> object:
    return jamb.clients.change(key, if_match=seen, purpose=text)


def group(steward: Jamb) -> tuple[str, Callable[[str], str], Edit]:
    name = slug("edited")
    steward.groups.save(name, title="First said", if_match=None)
    version = lambda key: next(one.version for one in steward.groups.list() if one.name == key)  # noqa: E731
    return name, version, lambda jamb, key, seen, text: jamb.groups.save(key, title=text, if_match=seen)


def role(steward: Jamb) -> tuple[str, Callable[[str], str], Edit]:
    def save(jamb: Jamb, key: str, seen: str | None, text: str) -> object:
        return jamb.roles.save(key, RoleSent(title=text, resource="berths", permissions=["berths.view"]), if_match=seen)

    name = slug("edited")
    save(steward, name, None, "First said")
    return name, lambda key: next(one.version for one in steward.roles.list() if one.name == key), save


def catalogue(steward: Jamb) -> tuple[str, Callable[[str], str], Edit]:
    name = slug("edited")
    steward.resources.publish(name, resource("First said", name))
    return (
        name,
        lambda key: steward.resources.read(key).version,
        lambda jamb, key, seen, text: jamb.resources.publish(key, resource(text, key), if_match=seen),
    )


def collections(steward: Jamb) -> tuple[str, Callable[[str], str], Edit]:
    name = slug("edited")
    steward.resources.publish(name, resource("Boxes", name))

    def save(jamb: Jamb, key: str, seen: str | None, text: str) -> object:
        return jamb.resources.replace_collections(key, [CollectionSent(path="all", title=text)], if_match=seen)

    save(steward, name, None, "First said")
    return name, lambda key: steward.resources.collections(key).version, save


def address(steward: Jamb) -> tuple[str, Callable[[str], str], Edit]:
    name = slug("edited")
    steward.resources.publish(name, resource("Boxes", name))
    return (
        name,
        lambda key: steward.resources.read(key).version,
        lambda jamb, key, seen, text: jamb.resources.set_address(
            key, f"https://{text.split()[0].lower()}.example", if_match=seen
        ),
    )


@pytest.mark.parametrize(
    "kind", [registration, group, role, catalogue, collections, address], ids=lambda one: one.__name__
)
def test_whoever_saves_second_is_told_and_overwrites_nothing(world: World, kind: Callable[[Jamb], Any]) -> None:
    with world.jamb("steward") as steward:
        key, version, edit = kind(steward)
        seen = version(key)
        edit(steward, key, seen, "Second said")
        there = version(key)
        assert there != seen
        with pytest.raises(Outdated) as told:
            edit(steward, key, seen, "Third said")
        assert "changed meanwhile" in told.value.message
        assert version(key) == there
        edit(steward, key, there, "Fourth said")
        edit(steward, key, "*", "Fifth said")
        edit(steward, key, None, "Sixth said")


def test_a_policy_is_changed_by_who_saw_it(world: World) -> None:
    world.open_directory("versions")
    with world.jamb("steward", "versions") as steward:
        seen = steward.directory()
        changed = steward.change_policy(if_match=seen.version, warn_days=21)
        with pytest.raises(Outdated):
            steward.change_policy(if_match=seen.version, warn_days=30)
        assert steward.directory().policy.warn_days == 21
        assert steward.directory().version == changed.version != seen.version


def test_what_is_there_is_not_made_anew_and_the_version_is_the_etag(world: World) -> None:
    name = slug("once")
    body = {"title": "Once", "people": [], "groups": []}
    with world.session("steward") as http:
        made = http.put(f"{HERE}/groups/{name}", json=body, headers={"If-None-Match": "*"})
        assert (made.status_code, made.headers["etag"]) == (200, f'"{made.json()["version"]}"')
        again = http.put(f"{HERE}/groups/{name}", json=body | {"title": "Twice"}, headers={"If-None-Match": "*"})
        assert (again.status_code, again.json()["type"]) == (412, "urn:jamb:problem:outdated")
        assert "is there already" in again.json()["detail"]
        gone = http.put(f"{HERE}/groups/{slug('none')}", json=body, headers={"If-Match": '"AAAA"'})
        assert (gone.status_code, "is not there any more" in gone.json()["detail"]) == (412, True)
        # A weak one never matches; several are a list.
        sent = f'W/"{made.json()["version"]}"'
        assert http.put(f"{HERE}/groups/{name}", json=body, headers={"If-Match": sent}).status_code == 412
        # Within its quotes a tag may have commas.
        listed = f'"A,A", W/"B", {made.headers["etag"]}'
        assert http.put(f"{HERE}/groups/{name}", json=body, headers={"If-Match": listed}).status_code == 200
        assert http.put(f"{HERE}/groups/{name}", json=body, headers={"If-Match": "AAAA"}).status_code == 422
        client = world.client(secret=False)
        read = http.get(f"{HERE}/clients/{client.id}")
        assert read.headers["etag"] == f'"{read.json()["client"]["version"]}"'


def test_the_command_line_refuses_what_was_changed_meanwhile(world: World, tmp_path: Path) -> None:
    shell = Shell(world, tmp_path).signed_in("steward")
    made = world.client(secret=False)
    seen = shell("clients", "show", made.id, "-o", "json").json()["client"]["version"]
    assert shell("clients", "change", made.id, "--purpose", "Said by one", "--if-match", seen).code == 0
    again = shell("clients", "change", made.id, "--purpose", "Said by another", "--if-match", seen)
    assert again.code != 0
    assert "changed meanwhile" in again.err


def test_a_call_of_several_changes_bears_a_key(world: World) -> None:
    made = world.client(granted=["dispatches.read", "dispatches.send"], resource="dispatches", secret=False)
    with world.jamb("registrar") as registrar, world.jamb(None) as owner:
        review = registrar.reviews.start(unique("Keyed"), days=5, clients=[made.id])
        (mine,) = [one for one in owner.reviews.mine() if one.review.id == review.id]
        for item in mine.items:
            owner.reviews.answer(review.id, item, Answer.GIVE_UP)
    with world.session("steward") as http:
        answer = http.post(
            f"{HERE}/reviews/{review.id}/carrying-out", json={"after": None}, headers={"Idempotency-Key": '"a-key"'}
        )
    assert (len(answer.json()["done"]), answer.json()["failed"]) == (2, []), answer.text
