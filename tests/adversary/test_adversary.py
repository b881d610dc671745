"""One person with an ordinary role does whatever the API lets them, as themselves and as everybody they come to be.

After each step what they can do is read from the records and held against what they could do at the start. Whatever is
more, and weighs what the policy leaves to no one person, fails; and is shrunk to the shortest way there. Nobody else in
the directory ever says yes.

A longer run: JAMB_ADVERSARY=500 pytest tests/adversary
"""

from __future__ import annotations

import os
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from typing import Any, ClassVar

import pytest
from hypothesis import HealthCheck, settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, initialize, invariant, rule, run_state_machine_as_test

from jamb.actions.base.backend import Backend
from tests.adversary.oracle import Can, can, weigh, weights
from tests.adversary.scene import ROLES, Scene, backend_of, made_scene
from tests.world import World, unique

EXAMPLES = int(os.environ.get("JAMB_ADVERSARY", "6"))
STEPS = 16
# What the policy of the scene leaves to one person: less than this.
LIMIT = 24
OBJECTS = 4

WHO = st.integers(0, 5)
CLIENT = st.sampled_from(["Strong", "Bounded", "Small", "Pipeline", "Empty", "Mine 0", "Mine 1"])
REACH = st.sampled_from(
    [
        {"kind": "everywhere"},
        {"kind": "only", "collections": ["front"]},
        {"kind": "only", "collections": ["none"]},
        {"kind": "only", "collections": ["front", "back"]},
        {"kind": "all-but", "collections": ["back"]},
    ]
)
VAULT = st.sampled_from(["doors.see", "doors.look", "doors.open", "vault.empty"])
OWN = st.sampled_from(["registry.write", "consent.decide", "credentials.manage", "resources.manage", "people.manage"])
PERSON = st.sampled_from(["ada", "puppet", "di"])


class Adversary(RuleBasedStateMachine):
    world: ClassVar[World]
    backend: ClassVar[Backend]
    scene: Scene
    start: Can

    @initialize(
        held=st.lists(st.sampled_from(ROLES), max_size=2, unique=True),
        owned=st.lists(
            st.sampled_from(["Small full", "Small edit", "Bounded edit", "Strong edit", "Pipeline edit", "Empty full"]),
            max_size=2,
            unique_by=lambda one: one.split()[0],
        ),
    )
    def begin(self, held: list[str], owned: list[str]) -> None:
        self.scene = made_scene(self.world, self.backend, held, owned)
        self.start, self.known = can(self.scene), weights(self.scene)
        self.catalogue = self.scene.call(self.scene.actors["cy"].id, "GET", "/resources/vault").json()
        self.base = frozenset[Any]().union(self.start.own, *self.start.clients.values())

    def teardown(self) -> None:
        if hasattr(self, "scene"):
            self.scene.close()

    def as_(self, who: int) -> str:
        return self.scene.identities[who % len(self.scene.identities)]

    def client(self, name: str) -> str:
        return self.scene.clients.get(name, self.scene.clients["Empty"])

    def person(self, name: str) -> str:
        if name == "puppet" and self.scene.people:
            return min(self.scene.people)
        return self.scene.actors.get(name, self.scene.actors["ada"]).id

    # Clients and what they hold

    @rule(who=WHO)
    def register(self, who: int) -> None:
        mine = [name for name in self.scene.clients if name.startswith("Mine")]
        if len(mine) < 2:
            body = {"name": unique("Mine"), "purpose": "Mine", "owners": [self.scene.adversary]}
            answer = self.scene.call(self.as_(who), "POST", "/clients", body)
            if answer.status_code == 201:
                self.scene.clients[f"Mine {len(mine)}"] = answer.json()["id"]

    @rule(who=WHO, client=CLIENT, name=VAULT | OWN, reach=REACH)
    def ask(self, who: int, client: str, name: str, reach: dict[str, Any]) -> None:
        at_vault = name.startswith(("doors", "vault"))
        body = {"resource": "vault" if at_vault else "jamb", "permissions": [name]}
        if at_vault:
            body["reach"] = reach
        self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/asks", body)

    @rule(who=WHO, client=CLIENT, reach=st.none() | REACH, soon=st.booleans())
    def consent(self, who: int, client: str, reach: dict[str, Any] | None, soon: bool) -> None:
        terms: dict[str, Any] = {"reach": {"vault": reach}} if reach else {}
        if soon:
            terms["expires_at"] = (datetime.now(UTC) + timedelta(hours=1)).isoformat()
        path = f"/clients/{self.client(client)}/consent"
        if self.scene.call(self.as_(who), "POST", path, {"terms": terms}).status_code >= 400:
            # One at a time may pass where all together do not.
            asked = self.scene.call(self.as_(who), "POST", f"{path}/preview", {}).json()
            for one in [ask for place in asked.get("resources", []) for ask in place["asks"]]:
                self.scene.call(self.as_(who), "POST", path, {"asks": [one["id"]], "terms": terms})

    @rule(who=WHO, other=WHO, client=CLIENT)
    def request_and_decide(self, who: int, other: int, client: str) -> None:
        path = f"/clients/{self.client(client)}/requests"
        made = self.scene.call(self.as_(who), "POST", path, {"reason": "Needed"})
        if made.status_code == 201:
            self.scene.call(self.as_(other), "POST", f"/requests/{made.json()['id']}/decision", {"decision": "grant"})

    @rule(who=WHO)
    def decide_what_waits(self, who: int) -> None:
        answer = self.scene.call(self.as_(who), "GET", "/requests")
        for one in answer.json().get("items", []) if answer.status_code == 200 else []:
            self.scene.call(self.as_(who), "POST", f"/requests/{one['id']}/decision", {"decision": "grant"})

    @rule(who=WHO, client=CLIENT, name=VAULT, reach=REACH)
    def change_reach(self, who: int, client: str, name: str, reach: dict[str, Any]) -> None:
        body = {"resource": "vault", "permissions": [name], "reach": reach}
        self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/consent/reach", body)

    @rule(who=WHO, client=CLIENT, name=VAULT)
    def withdraw(self, who: int, client: str, name: str) -> None:
        body = {"resource": "vault", "permissions": [name]}
        self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/consent/withdrawal", body)

    @rule(who=WHO, client=CLIENT)
    def remove_and_restore(self, who: int, client: str) -> None:
        path = f"/clients/{self.client(client)}"
        self.scene.call(self.as_(who), "POST", f"{path}/state", {"state": "disabled"})
        self.scene.call(self.as_(who), "POST", f"{path}/removal", {"reason": "Old"})
        self.scene.call(self.as_(who), "POST", f"{path}/restoration", {})
        self.scene.call(self.as_(who), "POST", f"{path}/state", {"state": "live"})

    @rule(who=WHO, client=CLIENT)
    def inherit_own_rights(self, who: int, client: str) -> None:
        self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/inheritance", {})

    # Acting as a client

    @rule(who=WHO, client=CLIENT, person=PERSON)
    def own(self, who: int, client: str, person: str) -> None:
        body = {"add": [self.person(person)], "level": "full"}
        self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/owners", body)

    @rule(who=WHO, client=CLIENT)
    def issue(self, who: int, client: str) -> None:
        answer = self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/secrets", {})
        if answer.status_code == 201:
            self.scene.secrets[self.client(client)] = answer.json()["secret"]

    @rule(who=WHO, client=CLIENT)
    def hand_over(self, who: int, client: str) -> None:
        answer = self.scene.call(
            self.as_(who), "POST", f"/clients/{self.client(client)}/handovers", {"credential": {"kind": "secret"}}
        )
        if answer.status_code == 201 and answer.json()["link"]:
            self.scene.held.add(self.client(client))

    @rule(who=WHO, client=CLIENT)
    def rotate(self, who: int, client: str) -> None:
        path = f"/clients/{self.client(client)}"
        seen = self.scene.call(self.as_(who), "GET", path).json()
        for one in seen.get("credentials", [])[:1]:
            answer = self.scene.call(self.as_(who), "POST", f"{path}/credentials/{one['id']}/rotation", {})
            if answer.status_code == 201 and (answer.json()["issued"] or {}).get("secret"):
                self.scene.secrets[self.client(client)] = answer.json()["issued"]["secret"]

    @rule(who=WHO, client=CLIENT)
    def trust_an_issuer(self, who: int, client: str) -> None:
        body = {"issuer": "https://mine.example", "subject": self.client(client), "kind": "issuer"}
        sent = {"credential": body, "label": ""}
        for document in (body, sent):
            answer = self.scene.call(self.as_(who), "POST", f"/clients/{self.client(client)}/credentials", document)
            if answer.status_code == 201:
                self.scene.held.add(self.client(client))

    # People, groups, roles, the policy

    @rule(who=WHO, role=st.lists(st.sampled_from(ROLES), max_size=1))
    def add_puppet(self, who: int, role: Sequence[str]) -> None:
        if len(self.scene.people) < 2:
            login = f"{unique('p').replace(' ', '')}@{self.scene.directory.slug}.example"
            body = {"login": login, "name": "Puppet", "roles": list(role)}
            answer = self.scene.call(self.as_(who), "POST", "/people", body)
            if answer.status_code == 201:
                self.scene.takes_over(self.as_(who), answer.json()["id"])

    @rule(who=WHO, person=st.sampled_from(["bo", "cy", "di"]))
    def make_a_link(self, who: int, person: str) -> None:
        self.scene.takes_over(self.as_(who), self.scene.actors[person].id)

    @rule(
        who=WHO, name=st.sampled_from(["mine", "watch", "opener"]), permissions=st.lists(VAULT, min_size=1, max_size=2)
    )
    def save_role(self, who: int, name: str, permissions: list[str]) -> None:
        body = {"title": name, "resource": "vault", "permissions": sorted(set(permissions))}
        self.scene.call(self.as_(who), "PUT", f"/roles/{name}", body)

    @rule(who=WHO, name=st.sampled_from(["mine-own"]), permissions=st.lists(OWN, min_size=1, max_size=1))
    def save_own_role(self, who: int, name: str, permissions: list[str]) -> None:
        body = {"title": name, "resource": "jamb", "permissions": permissions}
        self.scene.call(self.as_(who), "PUT", f"/roles/{name}", body)

    @rule(
        who=WHO,
        role=st.sampled_from(["mine", "mine-own", "watch", "opener", *ROLES]),
        holder=st.sampled_from(["ada", "puppet", "group"]) | CLIENT,
        soon=st.booleans(),
        reach=REACH,
    )
    def assign(self, who: int, role: str, holder: str, soon: bool, reach: dict[str, Any]) -> None:
        kind = "person" if holder in {"ada", "puppet"} else "group" if holder == "group" else "client"
        name = self.person(holder) if kind == "person" else "crowd" if kind == "group" else self.client(holder)
        body: dict[str, Any] = {"kind": kind, "holders": [name]}
        if role in {"mine", "watch", "opener"}:
            body["reach"] = reach
        if soon:
            body["expires_at"] = (datetime.now(UTC) + timedelta(hours=1)).isoformat()
        self.scene.call(self.as_(who), "POST", f"/roles/{role}/assignments", body)

    @rule(who=WHO, person=PERSON)
    def join_group(self, who: int, person: str) -> None:
        self.scene.call(self.as_(who), "PUT", "/groups/crowd", {"title": "", "people": [self.person(person)]})

    @rule(who=WHO, limit=st.sampled_from([24, 90_000]))
    def change_policy(self, who: int, limit: int) -> None:
        body = {"two_people_weight": limit, "two_approvers_weight": max(limit, 60)}
        self.scene.call(self.as_(who), "PUT", "/policy", body)

    # Resources

    @rule(
        who=WHO,
        implied=st.none() | VAULT,
        unlocked=st.none() | st.sampled_from(["door.open", "vault.empty"]),
        lighter=st.booleans(),
        smaller=st.booleans(),
    )
    def publish(self, who: int, implied: str | None, unlocked: str | None, lighter: bool, smaller: bool) -> None:
        sent = {key: self.catalogue[key] for key in ("title", "identifier", "object_name", "operations", "permissions")}
        operations = [dict(one) for one in sent["operations"]]
        permissions = [dict(one) for one in sent["permissions"]]
        for one in operations:
            one.pop("weight", None)
            if lighter:
                one["data_class"], one["effect"] = "open", "read"
        for one in permissions:
            one.pop("opens", None)
            if one["name"] == "doors.see":
                one["implies"] = [implied] if implied and implied != "doors.see" else []
                one["unlocks"] = ["doors.list", *([unlocked] if unlocked else [])]
            elif implied:
                one["implies"] = []
            if smaller and one["name"] == "vault.empty":
                one["unlocks"], one["implies"] = ["doors.list"], []
        rightsized = {
            **sent,
            "operations": [_only(one, _OPERATION) for one in operations],
            "permissions": [_only(one, _PERMISSION) for one in permissions],
        }
        self.scene.call(self.as_(who), "PUT", "/resources/vault", rightsized)

    @rule(who=WHO)
    def take_its_name(self, who: int) -> None:
        body = {
            "title": "Mine",
            "identifier": self.catalogue["identifier"],
            "object_name": "",
            "operations": [
                {
                    "name": "mine.read",
                    "title": "Read",
                    "method": "GET",
                    "path": "/m",
                    "effect": "read",
                    "data_class": "open",
                }
            ],
            "permissions": [{"name": "vault.empty", "title": "x", "kinds": ["application"], "unlocks": ["mine.read"]}],
        }
        self.scene.call(self.as_(who), "PUT", "/resources/other", body)

    @rule(who=WHO, filled=st.sampled_from(["none", "front"]), padded=st.booleans())
    def refill(self, who: int, filled: str, padded: bool) -> None:
        inside = {"front": ["f1", "f2"], "back": ["b1", "b2"], "none": []}
        inside[filled] = ["f1", "f2", "b1", "b2"]
        body = [{"path": path, "title": path, "objects": objects} for path, objects in inside.items()]
        if padded:
            body.append({"path": "made-up", "title": "x", "objects": [f"x{place}" for place in range(400)]})
        self.scene.call(self.as_(who), "PUT", "/resources/vault/collections", {"collections": body})

    # What is held against the start

    @invariant()
    def nobody_has_more_than_was_consented_to(self) -> None:
        if not hasattr(self, "scene"):
            return
        now = can(self.scene)
        for key, weight in weights(self.scene).items():
            self.known[key] = max(self.known.get(key, 0), weight)
        for deeds, who in ((now.own, "by roles"), *((now.clients[one], f"as {one}") for one in now.clients)):
            grown = weigh(deeds - self.base, self.known, OBJECTS)
            assert grown < LIMIT, f"{who} they can do {grown:g} more: {sorted(deeds - self.base)[:6]}"
        gained = now.own.union(*now.clients.values()) - self.base
        grown = weigh(gained, self.known, OBJECTS)
        assert grown < LIMIT, f"by all together they can do {grown:g} more: {sorted(gained)[:8]}"


_OPERATION = ("name", "title", "method", "path", "effect", "data_class")
_PERMISSION = ("name", "title", "kinds", "unlocks", "implies", "consent_by", "text", "person_text")


def _only(one: dict[str, Any], names: Sequence[str]) -> dict[str, Any]:
    return {name: one[name] for name in names if name in one}


def test_one_person_never_ends_up_with_more_than_the_policy_leaves_to_one(world: World) -> None:
    Adversary.world, Adversary.backend = world, backend_of(world)
    try:
        run_state_machine_as_test(
            Adversary,
            settings=settings(
                max_examples=EXAMPLES,
                stateful_step_count=STEPS,
                deadline=None,
                database=None,
                suppress_health_check=list(HealthCheck),
                derandomize=EXAMPLES == 6,
                print_blob=True,
            ),
        )
    finally:
        Adversary.backend.engine.dispose()


if __name__ == "__main__":
    pytest.main([__file__])
