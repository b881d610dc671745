"""What the adversary can do, read from the records by brute force: no judgement of the service is asked."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import psycopg

from tests.adversary.scene import Scene

EFFECT = {"read": 1, "write": 3, "control": 9}
DATA = {"open": 1, "internal": 2, "personal": 4, "restricted": 8}
# What reaches everything: its objects, and those that are in no collection.
ALL = "*"
# (resource, operation, object); an operation that names no object has "".
Deed = tuple[str, str, str]


@dataclass(frozen=True)
class Can:
    """`own`: by roles, as people that the adversary can act as. `clients`: by each client that they can act as."""

    own: frozenset[Deed]
    clients: Mapping[str, frozenset[Deed]]


@dataclass(frozen=True)
class Catalogue:
    name: str
    closure: Mapping[str, frozenset[str]]
    opens: Mapping[str, frozenset[str]]
    bounded: frozenset[str]
    weight: Mapping[str, int]
    objects: Mapping[str, frozenset[str]]


def can(scene: Scene) -> Can:
    """Return what the adversary can do now, by whatever they have."""
    with scene.world.database() as database:
        places = _catalogues(database, scene)
        people = {scene.adversary, *scene.people}
        own = frozenset[Deed]().union(*(_by_roles(database, places, "person_id", one) for one in people))
        clients = {
            one: _by_consent(database, places, one) | _by_roles(database, places, "client_id", one)
            for one in _acts_as(database, scene, people)
        }
        return Can(own, clients)


def weights(scene: Scene) -> dict[tuple[str, str], int]:
    """Return what operations weigh now, by resource and name."""
    with scene.world.database() as database:
        return {
            (place.name, name): weight
            for place in _catalogues(database, scene).values()
            for name, weight in place.weight.items()
        }


def weigh(deeds: Iterable[Deed], known: Mapping[tuple[str, str], int], objects: int) -> float:
    """Weigh deeds: each operation by the share of the objects; all at once where everything is reached."""
    shares: dict[tuple[str, str], float] = {}
    for resource, operation, name in deeds:
        share = 1.0 if name in (ALL, "") or resource == "jamb" else 1 / objects
        shares[resource, operation] = min(1.0, shares.get((resource, operation), 0.0) + share)
    return sum(known.get(key, 0) * share for key, share in shares.items())


def _acts_as(database: psycopg.Connection[Any], scene: Scene, people: Iterable[str]) -> set[str]:
    """Return the clients of which the adversary has a credential, or that a person of theirs answers for."""
    rows = database.execute(
        "select o.client_id from client_owner o join client c on c.id = o.client_id"
        " where o.person_id::text = any(%s) and o.level = 'full' and c.state <> 'removed' and c.directory_id = %s",
        [list(people), scene.directory.id],
    ).fetchall()
    return {key for (key,) in rows} | set(scene.secrets) | scene.held


def _by_consent(database: psycopg.Connection[Any], places: Mapping[Any, Catalogue], client: str) -> frozenset[Deed]:
    rows = database.execute(
        "select resource_id, permission, reach from consent where client_id = %s and kind = 'application'"
        " and granted_at <= now() and (expires_at is null or expires_at > now())",
        [client],
    ).fetchall()
    return frozenset(deed for key, name, reach in rows for deed in _deeds(places[key], [name], reach))


def _by_roles(
    database: psycopg.Connection[Any], places: Mapping[Any, Catalogue], holder: str, key: str
) -> frozenset[Deed]:
    groups = ""
    if holder == "person_id":
        groups = (
            " or a.group_id in (with recursive mine as (select group_id from group_person where person_id::text = %(key)s"
            " union select i.group_id from group_inner i join mine on i.inner_id = mine.group_id)"
            " select group_id from mine)"
        )
    rows = database.execute(
        f"select r.resource_id, r.permissions, a.reach from role_assignment a join role r on r.id = a.role_id"
        f" where (a.{holder}::text = %(key)s{groups}) and a.assigned_at <= now()"
        f" and (a.expires_at is null or a.expires_at > now())",  # type: ignore[arg-type]
        {"key": key},
    ).fetchall()
    return frozenset(deed for at, names, reach in rows for deed in _deeds(places[at], names, reach))


def _deeds(place: Catalogue, names: Iterable[str], reach: dict[str, list[str]] | None) -> Iterable[Deed]:
    for operation in frozenset().union(*(place.opens.get(name, frozenset()) for name in names)):
        if operation not in place.bounded:
            yield place.name, operation, ""
        elif not reach:
            yield place.name, operation, ALL
            yield from ((place.name, operation, one) for one in place.objects.get("", ()))
        elif "only" in reach:
            inside = frozenset().union(
                *(place.objects.get(path, frozenset({path} if place.name == "jamb" else ())) for path in reach["only"])
            )
            yield from ((place.name, operation, one) for one in inside)
        else:
            outside = frozenset().union(*(place.objects.get(path, frozenset()) for path in reach["all_but"]))
            yield place.name, operation, "beyond"
            yield from ((place.name, operation, one) for one in place.objects.get("", frozenset()) - outside)


def _catalogues(database: psycopg.Connection[Any], scene: Scene) -> dict[Any, Catalogue]:
    found = {}
    rows = database.execute(
        "select id, name, object_name from resource where directory_id = %s", [scene.directory.id]
    ).fetchall()
    for key, name, object_name in rows:
        permissions = {
            one: (frozenset(unlocks), frozenset(implies))
            for one, unlocks, implies in database.execute(
                "select name, unlocks, implies from permission where resource_id = %s", [key]
            )
        }
        closure = {one: _closed(permissions, one) for one in permissions}
        opens = {
            one: frozenset().union(*(permissions[inner][0] for inner in members)) for one, members in closure.items()
        }
        bounded, weight = set(), {}
        for one, path, effect, data in database.execute(
            "select name, path, effect, data_class from operation where resource_id = %s", [key]
        ):
            weight[one] = EFFECT[effect] * DATA[data]
            if object_name and "{" + object_name + "}" in path:
                bounded.add(one)
        objects: dict[str, frozenset[str]] = {}
        for path, inside in database.execute("select path, objects from collection where resource_id = %s", [key]):
            for above in (path[:end] for end in (*_slashes(path), len(path))):
                objects[above] = objects.get(above, frozenset()) | frozenset(inside)
            objects[""] = objects.get("", frozenset()) | frozenset(inside)
        found[key] = Catalogue(name, closure, opens, frozenset(bounded), weight, objects)
    return found


def _closed(permissions: Mapping[str, tuple[frozenset[str], frozenset[str]]], name: str) -> frozenset[str]:
    members, waiting = set(), [name]
    while waiting:
        one = waiting.pop()
        if one in permissions and one not in members:
            members.add(one)
            waiting += permissions[one][1]
    return frozenset(members)


def _slashes(path: str) -> Iterable[int]:
    return (place for place, mail in enumerate(path) if mail == "/")
