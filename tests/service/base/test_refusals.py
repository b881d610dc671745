"""What is not acceptable is refused at its field, in the words of what is allowed, and nothing is changed by it."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from jamb.client import BadInput, Conflict, Jamb
from jamb.core.errors import StillInUse
from jamb.core.reach import ReachKind
from jamb.wire.directory.roles import RoleSent
from jamb.wire.resources.reach import CollectionSent, ReachSent
from jamb.wire.resources.resources import ResourceSent
from tests.core.credentials.test_keys import KEY, public
from tests.world import Made, World, unique

AWAY = "https://issuer.example"
KEYS: dict[str, Any] = {"keys": [public(KEY)]}


def resource(name: str = "locks", **changes: Any) -> Callable[[Jamb, Made], object]:
    """Publish a small resource of this name, changed so."""
    body: dict[str, Any] = {
        "title": "Locks",
        "identifier": "https://locks.quillhaven.example",
        "operations": [
            {
                "name": "locks.list",
                "title": "List",
                "method": "GET",
                "path": "/locks",
                "effect": "read",
                "data_class": "open",
            }
        ],
        "permissions": [{"name": "locks.view", "title": "See", "kinds": ["application"], "unlocks": ["locks.list"]}],
    } | changes
    return lambda jamb, _: jamb.resources.publish(name, ResourceSent.model_validate(body))


def fuel_removed(jamb: Jamb, made: Made) -> object:
    """Take away a collection in which the client's consent counts."""
    jamb.asks.add(made.id, "berths", ["berths.view"], reach=ReachSent(kind=ReachKind.ONLY, collections=["fuel"]))
    jamb.consent.grant(made.id)
    found = jamb.resources.collections("berths").collections
    left = [
        CollectionSent(**one.model_dump(include={"path", "title", "objects"})) for one in found if one.path != "fuel"
    ]
    return jamb.resources.replace_collections("berths", left)


# What is tried; what it is refused as; the field, or a word of what is said.
CASES: dict[str, tuple[Callable[[Jamb, Made], object], type[Exception], str]] = {
    "a name that no address can have": (resource("Locks and Weirs"), BadInput, "name"),
    "the name of Jamb's own API": (resource("jamb"), BadInput, "not Jamb's own API"),
    "an identifier with a fragment": (resource(identifier="https://locks.example/#a"), BadInput, "identifier"),
    "an identifier with a slash that says nothing": (
        resource(identifier="https://locks.example/"),
        BadInput,
        "identifier",
    ),
    "an identifier that another has": (resource(identifier="https://berths.quillhaven.example"), Conflict, "berths"),
    "a permission that unlocks nothing known": (
        resource(permissions=[{"name": "a", "title": "A", "kinds": ["application"], "unlocks": ["fly"]}]),
        BadInput,
        "fly",
    ),
    "collections where nothing is called an object": (
        lambda jamb, _: jamb.resources.replace_collections("tariffs", [CollectionSent(path="north")]),
        BadInput,
        "collections",
    ),
    "a collection that a reach names": (fuel_removed, StillInUse, "fuel"),
    "no keys, and no address of any": (lambda jamb, made: jamb.credentials.add_keys(made.id), BadInput, "keys"),
    "keys, and an address too": (
        lambda jamb, made: jamb.credentials.add_keys(made.id, KEYS, keys_uri=f"{AWAY}/keys"),
        BadInput,
        "keys",
    ),
    "an issuer in the clear": (
        lambda jamb, made: jamb.credentials.trust_issuer(made.id, "http://issuer.example", "a"),
        BadInput,
        "issuer",
    ),
    "an issuer without a subject": (
        lambda jamb, made: jamb.credentials.trust_issuer(made.id, AWAY, ""),
        BadInput,
        "subject",
    ),
    "an issuer with keys, and an address too": (
        lambda jamb, made: jamb.credentials.trust_issuer(made.id, AWAY, "a", keys=KEYS, keys_uri=AWAY),
        BadInput,
        "keys",
    ),
    "an issuer whose keys are in the clear": (
        lambda jamb, made: jamb.credentials.trust_issuer(made.id, AWAY, "a", keys_uri="http://x.example"),
        BadInput,
        "keys_uri",
    ),
    "a credential that outlives the policy": (
        lambda jamb, made: jamb.credentials.trust_issuer(made.id, AWAY, "a", days=10_000),
        BadInput,
        "days",
    ),
    "a trial that is over": (
        lambda jamb, made: jamb.clients.change(made.id, trial_ends_at=made_at(jamb, made)),
        BadInput,
        "trial_ends_at",
    ),
    "a change of nothing": (lambda jamb, made: jamb.clients.change(made.id), BadInput, "says already"),
    "a person twice": (
        lambda jamb, _: jamb.people.add("pia.nowicki@quillhaven.example", "Another Pia"),
        Conflict,
        "pia.nowicki",
    ),
    "a group within itself": (
        lambda jamb, _: jamb.groups.save("night-watch", title="Night watch", groups=["night-watch"]),
        BadInput,
        "groups",
    ),
    "a role of what nobody knows": (
        lambda jamb, _: jamb.roles.save("idle", RoleSent(title="Idle", resource="berths", permissions=["berths.fly"])),
        BadInput,
        "permissions",
    ),
    "a webhook in the clear": (lambda jamb, _: jamb.webhooks.add("http://hook.example"), BadInput, "address"),
}


def made_at(jamb: Jamb, made: Made) -> Any:
    return jamb.clients.read(made.id).client.registered_at


@pytest.mark.parametrize(("attempt", "refusal", "said"), CASES.values(), ids=CASES.keys())
def test_what_is_not_acceptable_is_refused_where_it_is_and_changes_nothing(
    world: World, attempt: Callable[[Jamb, Made], object], refusal: type[Exception], said: str
) -> None:
    with world.jamb("steward") as steward:
        name = unique("Refused")
        made = Made(steward.clients.register(name, "Made by a test").id, name, "")
        with pytest.raises(refusal) as refused:
            attempt(steward, made)
        words = f"{refused.value} {getattr(refused.value, 'violations', '')}"
        assert said in words
        last = next(iter(steward.ledger.list()))
        # What the attempt did before it was refused is a consent at the most.
        assert last.action in {"client.registered", "consent.granted"}, "nothing was entered"
