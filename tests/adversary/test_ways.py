"""Each known way by which one person could end up with more than was consented to, walked from its beginning.

Whatever is answered on the way, what counts is what the person can do in the end.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from datetime import UTC, datetime, timedelta
from typing import Any
from uuid import uuid4

import pytest
from joserfc.jwk import ECKey
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.clients import registrations
from jamb.actions.consent import asks
from jamb.actions.credentials.adding import SecretIssued, add_credential
from jamb.actions.credentials.policy_rotation import open_by_policy
from jamb.actions.directory import directories, roles
from jamb.core.clients.clients import ClientKind, registration
from jamb.core.directory.roles import HolderKind
from jamb.core.permissions import AccessKind
from jamb.core.reach import EVERYWHERE, Reach
from jamb.store.credentials.credentials import CredentialRow, credentials_of
from tests.adversary.oracle import can, weigh, weights
from tests.adversary.scene import SETUP, Scene, backend_of, consented, made_scene, signed_in
from tests.world import World

LIMIT, OBJECTS = 24, 4
Walk = Callable[[Scene], None]
WAYS: dict[str, tuple[Sequence[str], Sequence[str], Walk]] = {}


def way(name: str, roles: str = "", owned: Sequence[str] = ()) -> Callable[[Walk], Walk]:
    """Note a way that begins with these roles and owned clients."""

    def noted(walk: Walk) -> Walk:
        WAYS[name] = roles.split(), owned, walk
        return walk

    return noted


def me(scene: Scene, method: str, path: str, body: Any = None) -> Any:
    answer = scene.call(scene.adversary, method, path, body)
    return answer.json() if answer.content else {}


def of(scene: Scene, client: str) -> str:
    return f"/clients/{scene.clients[client]}"


def issue(scene: Scene, client: str) -> None:
    answer = me(scene, "POST", f"{of(scene, client)}/secrets", {})
    if "secret" in answer:
        scene.secrets[scene.clients[client]] = answer["secret"]


def ask(scene: Scene, client: str, *names: str, reach: Any = None, resource: str = "vault") -> None:
    body = {"resource": resource, "permissions": list(names), **({"reach": reach} if reach else {})}
    me(scene, "POST", f"{of(scene, client)}/asks", body)


def consent(scene: Scene, client: str, **terms: Any) -> None:
    """Consent, all at once and else one by one."""
    path = f"{of(scene, client)}/consent"
    if scene.call(scene.adversary, "POST", path, {"terms": terms}).status_code >= 400:
        for one in [ask for at in me(scene, "POST", f"{path}/preview", {}).get("resources", []) for ask in at["asks"]]:
            me(scene, "POST", path, {"asks": [one["id"]], "terms": terms})


def mine(scene: Scene, *names: str) -> None:
    """Register a client of one's own, and ask for these."""
    body = {"name": "Mine", "purpose": "Mine", "owners": [scene.adversary]}
    scene.clients["Mine"] = me(scene, "POST", "/clients", body)["id"]
    if names:
        ask(scene, "Mine", *names)


def only(*paths: str) -> dict[str, Any]:
    return {"kind": "only", "collections": list(paths)}


def catalogue(scene: Scene) -> dict[str, Any]:
    found = me(scene, "GET", "/resources/vault")
    kept = ("name", "title", "method", "path", "effect", "data_class")
    named = ("name", "title", "kinds", "unlocks", "implies", "consent_by", "text", "person_text")
    return {
        "title": found["title"],
        "identifier": found["identifier"],
        "object_name": found["object_name"],
        "operations": [{name: one[name] for name in kept} for one in found["operations"]],
        "permissions": [{name: one[name] for name in named} for one in found["permissions"]],
    }


def collections(scene: Scene, **inside: list[str]) -> None:
    held = {"front": ["f1", "f2"], "back": ["b1", "b2"], "none": [], **inside}
    body = [{"path": path, "title": path, "objects": objects} for path, objects in held.items()]
    me(scene, "PUT", "/resources/vault/collections", {"collections": body})


# Acting as a client


@way("a registrar names themself owner and issues the secret", "registrar custodian")
def _(scene: Scene) -> None:
    me(scene, "POST", f"{of(scene, 'Strong')}/owners", {"add": [scene.adversary]})
    issue(scene, "Strong")


@way("a custodian issues the secret of a client that may consent", "custodian")
def _(scene: Scene) -> None:
    issue(scene, "Pipeline")


@way("a custodian rotates the secret of the strongest client", "custodian")
def _(scene: Scene) -> None:
    held = scene.call(scene.actors["di"].id, "POST", f"{of(scene, 'Strong')}/secrets", {}).json()["credential"]
    path = f"{of(scene, 'Strong')}/credentials/{held['id']}/rotation"
    opened = me(scene, "POST", path, {})
    if (opened.get("issued") or {}).get("secret"):
        scene.secrets[scene.clients["Strong"]] = opened["issued"]["secret"]


@way("a custodian hands a new secret over to themself", "custodian")
def _(scene: Scene) -> None:
    made = me(scene, "POST", f"{of(scene, 'Strong')}/handovers", {"credential": {"kind": "secret"}})
    if made.get("link"):
        scene.held.add(scene.clients["Strong"])


@way("a custodian trusts an outside issuer of their own", "custodian")
def _(scene: Scene) -> None:
    body = {"kind": "issuer", "issuer": "https://mine.example", "subject": "me"}
    if scene.call(scene.adversary, "POST", f"{of(scene, 'Strong')}/credentials", body).status_code == 201:
        scene.held.add(scene.clients["Strong"])


@way("a custodian has a new secret sealed to a webhook of their own", "custodian")
def _(scene: Scene) -> None:
    give(scene, "people.manage")
    key = json.dumps(ECKey.generate_key("P-256").as_dict(private=False))
    hook = me(scene, "POST", "/webhooks", {"url": "https://mine.example/events", "key": key})
    body = {"credential": {"kind": "secret"}, "recipient": hook["id"]}
    if scene.call(scene.adversary, "POST", f"{of(scene, 'Strong')}/sealings", body).status_code == 201:
        scene.held.add(scene.clients["Strong"])


@pytest.mark.parametrize("kind", ["keys", "issuer"])
def test_a_key_of_ones_own_is_judged_though_what_follows_is_delivered_to_the_owners(
    world: World, backend: Backend, kind: str
) -> None:
    scene = made_scene(world, backend, ("custodian",), ())
    by_setup = Act(backend, scene.directory, SETUP, datetime.now(UTC))
    old = add_credential(by_setup, scene.clients["Strong"], SecretIssued(20), "").credential.id
    key = ECKey.generate_key("P-256", {"kid": "mine", "use": "sig", "alg": "ES256"}).as_dict(private=False)
    own = {"kind": kind, "keys": {"keys": [key]}}
    if kind == "issuer":
        own |= {"issuer": "https://mine.example", "subject": "me"}
    try:
        path = f"{of(scene, 'Strong')}/credentials/{old}/rotation"
        answer = scene.call(scene.adversary, "POST", path, {"successor": own, "deliver": "owners"})
        assert (answer.status_code, "needs-agreement" in answer.text) == (409, True), answer.text
        assert len(list_credentials(backend, scene, "Strong")) == 1
    finally:
        scene.close()


@way("whoever manages people makes themself more through a group", "")
def _(scene: Scene) -> None:
    give(scene, "people.manage")
    me(scene, "PUT", "/groups/crowd", {"title": "", "people": [scene.adversary]})
    me(scene, "POST", "/roles/steward/assignments", {"kind": "group", "holders": ["crowd"]})


@way("whoever manages people joins a group that holds more", "")
def _(scene: Scene) -> None:
    give(scene, "people.manage")
    me(scene, "POST", "/roles/steward/assignments", {"kind": "group", "holders": ["crowd"]})
    me(scene, "PUT", "/groups/crowd", {"title": "", "people": []})
    me(scene, "POST", "/roles/steward/assignments", {"kind": "group", "holders": ["crowd"]})
    me(scene, "PUT", "/groups/crowd", {"title": "", "people": [scene.adversary]})


@way("whoever manages people makes a sign-in link for an approver and signs in as them", "")
def _(scene: Scene) -> None:
    give(scene, "people.manage")
    scene.takes_over(scene.adversary, scene.actors["cy"].id)


@way("whoever manages people lets a role that they hold bundle more", "")
def _(scene: Scene) -> None:
    give(scene, "people.manage")
    me(scene, "PUT", "/roles/mine", {"title": "", "resource": "vault", "permissions": ["doors.see"]})
    me(scene, "POST", "/roles/mine/assignments", {"kind": "person", "holders": [scene.adversary]})
    me(scene, "PUT", "/roles/mine", {"title": "", "resource": "vault", "permissions": ["vault.empty"]})


# What was consented to grows by itself


@way("a catalogue lets a granted permission imply more", "registrar", ["Small full"])
def _(scene: Scene) -> None:
    sent = catalogue(scene)
    next(one for one in sent["permissions"] if one["name"] == "doors.see")["implies"] = ["vault.empty"]
    for one in sent["permissions"]:
        one["implies"] = one["implies"] if one["name"] == "doors.see" else []
    me(scene, "PUT", "/resources/vault", sent)


@way("a catalogue lets a granted permission unlock more", "registrar", ["Small full"])
def _(scene: Scene) -> None:
    sent = catalogue(scene)
    next(one for one in sent["permissions"] if one["name"] == "doors.see")["unlocks"] = ["doors.list", "vault.empty"]
    me(scene, "PUT", "/resources/vault", sent)


@way("a collection that a consent is bounded to is filled", "registrar", ["Bounded full"])
def _(scene: Scene) -> None:
    collections(scene, front=["f1", "f2", "b1", "b2", *(f"z{place}" for place in range(8))])


@way("a catalogue widened in slices, each agreed to by whoever published it", "registrar approver", ["Small full"])
def _(scene: Scene) -> None:
    for name in ("keys", "codes", "alarms"):
        sent = catalogue(scene)
        sent["operations"].append(
            {
                "name": f"{name}.set",
                "title": name,
                "method": "PUT",
                "path": f"/{name}",
                "effect": "write",
                "data_class": "personal",
            }
        )
        next(one for one in sent["permissions"] if one["name"] == "doors.see")["unlocks"] += [f"{name}.set"]
        me(scene, "PUT", "/resources/vault", sent)
        for one in me(scene, "GET", "/requests").get("items", []):
            me(scene, "POST", f"/requests/{one['id']}/decision", {"decision": "grant"})


@way("somebody else's disabling of a credential that one has seen is undone", "custodian")
def _(scene: Scene) -> None:
    path, key = of(scene, "Strong"), scene.clients["Strong"]
    held = scene.call(scene.actors["di"].id, "POST", f"{path}/secrets", {}).json()
    with scene.world.database() as database:
        database.execute(
            "update credential set seen_by_id = %s, disabled_at = now() where id = %s",
            [scene.adversary, held["credential"]["id"]],
        )
    body = {"enabled": True}
    if scene.call(scene.adversary, "POST", f"{path}/credentials/{held['credential']['id']}/state", body).is_success:
        scene.secrets[key] = held["secret"]


# Two people, by one person


@way("a heavy consent in slices", "registrar approver")
def _(scene: Scene) -> None:
    mine(scene)
    for paths in (["front"], ["back"]):
        ask(scene, "Mine", "doors.look", "doors.open", reach=only(*paths))
        consent(scene, "Mine")
        me(scene, "POST", f"{of(scene, 'Mine')}/consent/reach", _reach(["doors.open"], only("front", "back")))
    ask(scene, "Mine", "doors.see")
    consent(scene, "Mine")


@way("a reach widened in steps", "registrar approver")
def _(scene: Scene) -> None:
    mine(scene)
    ask(scene, "Mine", "doors.open")
    consent(scene, "Mine", reach={"vault": only("front")})
    for reach in (only("front", "back"), {"kind": "everywhere"}):
        me(scene, "POST", f"{of(scene, 'Mine')}/consent/reach", _reach(["doors.open"], reach))


@way("published as lighter data, consented, and published back", "registrar approver")
def _(scene: Scene) -> None:
    mine(scene, "vault.empty")
    back = catalogue(scene)
    sent = catalogue(scene)
    for one in sent["operations"]:
        one["effect"], one["data_class"] = "read", "open"
    me(scene, "PUT", "/resources/vault", sent)
    consent(scene, "Mine")
    me(scene, "PUT", "/resources/vault", back)


@way("published as something else, consented, and published back", "registrar approver")
def _(scene: Scene) -> None:
    back, sent = catalogue(scene), catalogue(scene)
    # A name that nobody holds, so that nobody misses what it opens.
    for place in (back, sent):
        place["permissions"].append(
            {"name": "vault.all", "title": "All", "kinds": ["application"], "unlocks": ["vault.empty"], "implies": []}
        )
    me(scene, "PUT", "/resources/vault", back)
    sent["permissions"][-1]["unlocks"] = ["doors.list"]
    me(scene, "PUT", "/resources/vault", sent)
    mine(scene, "vault.all")
    consent(scene, "Mine")
    me(scene, "PUT", "/resources/vault", back)


@way("a role on a client of one's own", "steward", ["Empty full"])
def _(scene: Scene) -> None:
    me(scene, "PUT", "/roles/mine", {"title": "", "resource": "vault", "permissions": ["vault.empty"]})
    me(scene, "POST", "/roles/mine/assignments", {"kind": "client", "holders": [scene.clients["Empty"]]})


@way("a consent in the shadow of a role that ends", "approver registrar", ["Empty full"])
def _(scene: Scene) -> None:
    lent(scene, "Empty", "vault.empty", timedelta(hours=1))
    ask(scene, "Empty", "vault.empty")
    consent(scene, "Empty")
    take(scene, "Empty")


@way("the limits are raised, used, and set back", "steward")
def _(scene: Scene) -> None:
    mine(scene, "vault.empty")
    me(scene, "PUT", "/policy", {"two_people_weight": 90_000, "two_approvers_weight": 90_000})
    consent(scene, "Mine")
    me(scene, "PUT", "/policy", {"two_people_weight": 24, "two_approvers_weight": 60})


# One person on both sides


@way("an owner asks, and consents as their client that may", "", ["Pipeline full", "Empty full"])
def _(scene: Scene) -> None:
    issue(scene, "Pipeline")
    ask(scene, "Empty", "doors.look", "doors.open")
    scene.call(scene.clients["Pipeline"], "POST", f"{of(scene, 'Empty')}/consent", {})


@way("a client asks, and its owner consents", "approver", ["Pipeline full", "Empty full"])
def _(scene: Scene) -> None:
    issue(scene, "Pipeline")
    body = {"resource": "vault", "permissions": ["doors.look", "doors.open"]}
    scene.call(scene.clients["Pipeline"], "POST", f"{of(scene, 'Empty')}/asks", body)
    consent(scene, "Empty")


@way("somebody whose sign-in link one saw agrees", "steward", ["Empty full"])
def _(scene: Scene) -> None:
    login = f"puppet@{scene.directory.slug}.example"
    made = me(scene, "POST", "/people", {"login": login, "name": "Puppet", "roles": ["approver"]})
    assert scene.takes_over(scene.adversary, made["id"])
    ask(scene, "Empty", "doors.look", "doors.open")
    scene.call(made["id"], "POST", f"{of(scene, 'Empty')}/consent", {})


# Weight made small


@way("a collection padded with made-up objects", "registrar approver")
def _(scene: Scene) -> None:
    mine(scene, "doors.look", "doors.open")
    collections(scene, padding=[f"x{place}" for place in range(900)])
    consent(scene, "Mine", reach={"vault": only("front", "back")})


@way("consented to while empty, and filled later", "registrar approver")
def _(scene: Scene) -> None:
    mine(scene, "doors.look", "doors.open")
    consent(scene, "Mine", reach={"vault": only("none")})
    collections(scene, none=["f1", "f2", "b1", "b2"])


@way("split over two clients of one owner", "registrar approver", ["Empty full"])
def _(scene: Scene) -> None:
    mine(scene)
    for client, path in (("Mine", "front"), ("Empty", "back")):
        ask(scene, client, "doors.look", "doors.open", reach=only(path))
        consent(scene, client)


# Side doors


@way("a direct consent beyond what was asked", "approver", ["Empty full"])
def _(scene: Scene) -> None:
    body = {"resource": "vault", "permissions": ["doors.look", "doors.open"], "reach": only("none")}
    scene.call(scene.actors["di"].id, "POST", f"{of(scene, 'Empty')}/asks", body)
    consent(scene, "Empty", reach={"vault": {"kind": "everywhere"}})


@way("a removed client restored with all its weight", "approver registrar", [])
def _(scene: Scene) -> None:
    path = of(scene, "Strong")
    me(scene, "POST", f"{path}/state", {"state": "disabled"})
    me(scene, "POST", f"{path}/removal", {"reason": "Old"})
    # Its owner leaves it to the adversary while it is nobody's.
    with scene.world.database() as database:
        database.execute(
            "update client_owner set person_id = %s where client_id = %s", [scene.adversary, scene.clients["Strong"]]
        )
    scene.removed.add(scene.clients["Strong"])
    me(scene, "POST", f"{path}/restoration", {})


@way("the identifier of a resource that guards trust is taken", "registrar approver")
def _(scene: Scene) -> None:
    sent = catalogue(scene)
    me(scene, "PUT", "/resources/vault", {**sent, "identifier": "https://elsewhere.example"})
    other = {**sent, "operations": [{**one, "data_class": "open", "effect": "read"} for one in sent["operations"]]}
    me(scene, "PUT", "/resources/other", other)
    mine(scene)
    ask(scene, "Mine", "vault.empty", resource="other")
    consent(scene, "Mine")
    with scene.world.database() as database:
        named = database.execute(
            "select name from resource where directory_id = %s and identifier = %s",
            [scene.directory.id, sent["identifier"]],
        ).fetchall()
    assert named == [("vault",)], "a guard trusts what is issued for its identifier"


def give(scene: Scene, permission: str) -> None:
    """Let the adversary hold one permission of Jamb's own API, as somebody gave it to them long ago."""
    with scene.world.database() as database:
        database.execute(
            "with own as (select id, directory_id from resource where directory_id = %(at)s and name = 'jamb'),"
            " made as (insert into role (id, directory_id, resource_id, name, title, permissions, shipped)"
            "   select gen_random_uuid(), directory_id, id, 'given', '', array[%(what)s], false from own returning id)"
            " insert into role_assignment (id, role_id, person_id, assigned_at, assigned_by)"
            "   select gen_random_uuid(), id, %(who)s, now() - interval '90 days', '' from made",
            {"at": scene.directory.id, "what": permission, "who": scene.adversary},
        )
    scene.begun = can(scene)


def lent(scene: Scene, client: str, permission: str, life: timedelta) -> None:
    """Let a client hold a permission by a role that others assigned, until it ends."""
    with scene.world.database() as database:
        database.execute(
            "with at as (select id, directory_id from resource where directory_id = %(at)s and name = 'vault'),"
            " made as (insert into role (id, directory_id, resource_id, name, title, permissions, shipped)"
            "   select gen_random_uuid(), directory_id, id, 'lent', '', array[%(what)s], false from at returning id)"
            " insert into role_assignment (id, role_id, client_id, assigned_at, assigned_by, expires_at)"
            "   select gen_random_uuid(), id, %(who)s, now() - interval '1 day', '', %(until)s from made",
            {
                "at": scene.directory.id,
                "what": permission,
                "who": scene.clients[client],
                "until": datetime.now(UTC) + life,
            },
        )


def take(scene: Scene, client: str) -> None:
    """Let the roles of a client end."""
    with scene.world.database() as database:
        database.execute("update role_assignment set expires_at = now() where client_id = %s", [scene.clients[client]])


def _reach(permissions: Sequence[str], reach: Any) -> dict[str, Any]:
    return {"resource": "vault", "permissions": list(permissions), "reach": reach}


@pytest.fixture(scope="module")
def backend(world: World) -> Iterator[Backend]:
    made = backend_of(world)
    yield made
    made.engine.dispose()


@pytest.mark.parametrize("name", WAYS)
def test_a_way_ends_before_it_gives_more_than_the_policy_leaves_to_one(
    world: World, backend: Backend, name: str
) -> None:
    held, owned, walk = WAYS[name]
    scene = made_scene(world, backend, held, owned)
    try:
        scene.begun = can(scene)
        known = weights(scene)
        walk(scene)
        now, start = can(scene), scene.begun
        base = frozenset().union(start.own, *start.clients.values())
        assert weigh(now.own - base, known, OBJECTS) < LIMIT, sorted(now.own - base)[:6]
        together = frozenset().union(*now.clients.values()) - base - now.own
        every = {**weights(scene), **known}
        assert weigh(together, every, OBJECTS) < LIMIT, sorted(together)[:6]
        for client, deeds in now.clients.items():
            if client in scene.removed:
                assert weigh(deeds, known, OBJECTS) < LIMIT, "it was restored with all it had"
    finally:
        scene.close()


def test_what_is_added_at_one_moment_counts_together(world: World, backend: Backend) -> None:
    scene = made_scene(world, backend, ["registrar", "approver"], ["Empty full"])
    mine(scene)
    for client, path in (("Mine", "front"), ("Empty", "back")):
        ask(scene, client, "doors.look", "doors.open", reach=only(path))

    def consent_to(client: str) -> int:
        http = signed_in(backend, world, scene.adversary)
        try:
            return http.post(f"{scene.base}{of(scene, client)}/consent", json={}).status_code
        finally:
            http.close()

    try:
        with ThreadPoolExecutor(2) as pool:
            assert sorted(pool.map(consent_to, ["Mine", "Empty"])) == [201, 409]
    finally:
        scene.close()


def test_a_rotation_by_the_policy_reaches_those_alone_who_answer_for_the_client(world: World, backend: Backend) -> None:
    scene = made_scene(world, backend, (), ["Bounded edit"])
    later = datetime.now(UTC) + timedelta(days=2)
    try:
        scene.call(scene.actors["di"].id, "POST", f"{of(scene, 'Bounded')}/secrets", {"days": 3})
        directories.change_policy(Act(backend, scene.directory, SETUP, later), {"rotation_opens_days": 10})
        assert open_by_policy(backend, scene.directory.slug, lambda *_: b"{}", later) == (1, [])
        with world.database() as database:
            told = database.execute(
                "select person_id::text from notice where client_id = %s and link is not null",
                [scene.clients["Bounded"]],
            ).fetchall()
        assert told == [(scene.actors["di"].id,)], "who may only edit sees no secret"
    finally:
        scene.close()


def test_what_ends_soon_hides_nothing_that_stays(world: World, backend: Backend) -> None:
    """A role for an hour makes neither the same role without end, nor a client that may do as much, a gain of nothing."""
    scene = made_scene(world, backend, ("registrar",), ())
    give(scene, "people.manage")
    now = datetime.now(UTC)
    soon = now + timedelta(hours=1)
    roles.save_role(Act(backend, scene.directory, SETUP, now), "emptier", "Emptier", "vault", ["vault.empty"])
    for name in ("opener", "emptier"):
        roles.assign_role(
            Act(backend, scene.directory, SETUP, now), name, HolderKind.PERSON, [scene.adversary], EVERYWHERE, soon
        )
    try:
        again = {"kind": "person", "holders": [scene.adversary]}
        later = {**again, "expires_at": (soon + timedelta(days=1)).isoformat()}
        for body in (again, later):
            answer = scene.call(scene.adversary, "POST", "/roles/opener/assignments", body)
            assert (answer.status_code, "needs-agreement" in answer.text) == (409, True), answer.text
        owning = scene.call(scene.adversary, "POST", f"{of(scene, 'Strong')}/owners", {"add": [scene.adversary]})
        assert (owning.status_code, "needs-agreement" in owning.text) == (409, True), owning.text
    finally:
        scene.close()


def light_ones(world: World, backend: Backend) -> Scene:
    """Two clients that a custodian may take one of: both together weigh too much for one person."""
    scene = made_scene(world, backend, ("registrar", "custodian"), ())
    now, di = datetime.now(UTC), scene.actors["di"]
    rear = registrations.register(
        Act(backend, scene.directory, SETUP, now),
        registration("Rear", "Made for an attack", ClientKind.SERVICE),
        [di.id],
    )
    kind, back = AccessKind.APPLICATION, Reach.only("back")
    asks.ask(Act(backend, scene.directory, di, now), rear.id, "vault", ["doors.open"], kind, "", back)
    consented(backend, scene.directory, rear.id, [scene.actors["bo"], scene.actors["cy"]], di, now)
    scene.clients["Rear"] = rear.id
    return scene


@pytest.mark.parametrize("ways", [("secrets", "secrets"), ("owners", "owners"), ("secrets", "owners")])
def test_clients_that_are_light_one_by_one_are_not_taken_one_after_another(
    world: World, backend: Backend, ways: tuple[str, str]
) -> None:
    scene = light_ones(world, backend)
    try:
        taken = []
        for name, way_in in zip(("Bounded", "Rear"), ways, strict=True):
            body = {} if way_in == "secrets" else {"add": [scene.adversary]}
            answer = scene.call(scene.adversary, "POST", f"{of(scene, name)}/{way_in}", body)
            taken.append(answer.status_code < 400)
        assert taken == [True, False]
        assert "was added within the last 30 days" in answer.text
        handed = scene.call(
            scene.adversary,
            "POST",
            f"{of(scene, 'Rear')}/handovers",
            {"credential": {"kind": "secret"}, "deliver": "owners"},
        )
        assert handed.status_code == 201, "the owners take it without anybody else"
    finally:
        scene.close()


def test_clients_that_are_light_one_by_one_are_not_taken_together_in_one_call(world: World, backend: Backend) -> None:
    scene = light_ones(world, backend)
    by_setup = Act(backend, scene.directory, SETUP, datetime.now(UTC))
    old = {
        name: add_credential(by_setup, scene.clients[name], SecretIssued(20), "").credential.id
        for name in ("Bounded", "Rear", "Empty")
    }
    wanted = [{"client": scene.clients[name], "credential": str(key), "id": str(uuid4())} for name, key in old.items()]
    wanted += [{**wanted[2], "id": str(uuid4())}, {**wanted[0], "client": scene.clients["Strong"]}]
    try:
        answer = scene.call(scene.adversary, "POST", "/rotations", {"rotations": wanted}).json()
        opened, failed = answer["opened"], answer["failed"]
        assert [one["rotation"]["id"] for one in opened] == [wanted[0]["id"], wanted[2]["id"]]
        told = [one["problem"]["type"].rpartition(":")[2] for one in failed]
        assert told == ["needs-agreement", "conflict", "not-found"], failed
        assert "was added within the last 30 days" in failed[0]["problem"]["detail"]
        for name, most in (("Bounded", 2), ("Rear", 1), ("Empty", 2)):
            held = list_credentials(backend, scene, name)
            assert len(held) == most, "nothing is left of what was not opened"
    finally:
        scene.close()


def list_credentials(backend: Backend, scene: Scene, name: str) -> list[CredentialRow]:
    with Session(backend.engine) as session:
        return credentials_of(session, [scene.clients[name]])
