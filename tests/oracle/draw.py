"""Draw an estate: clients in order, and among them mixtures of whatever can go wrong, at and around every threshold."""

from __future__ import annotations

import base64
import unicodedata
from collections.abc import Callable
from datetime import datetime, timedelta
from random import Random
from typing import Any
from uuid import UUID

from jamb.core import own_api
from tests.oracle.facts import (
    CLASSES,
    DAY,
    DEVICE_CODE,
    EFFECTS,
    Client,
    Credential,
    Entry,
    Estate,
    Grant,
    Held,
    Operation,
    Person,
    Reach,
    Resource,
    Role,
)

DOMAIN = "truth.example"
SECOND = timedelta(seconds=1)
TREE = {
    "north": {"n1", "n2"},
    "north/in": {"i1", "b1"},
    "north/in/deep": {"d1"},
    "south": {"s1", "b1"},
    "south/out": {"o1", "o2", "o3"},
    "empty": set(),
    "board": {"c1", "c2", "c3", "c4", "c5"},
}
Scenario = Callable[["Draw", Client], None]
SCENARIOS: list[Scenario] = []


def scenario(one: Scenario) -> Scenario:
    SCENARIOS.append(one)
    return one


class Draw(Random):
    """The same for the same seed but for its ids, which are this run's own (`mark`), and for the day on which it is."""

    def __init__(self, seed: int, clients: int, now: datetime, mark: int) -> None:
        super().__init__(f"truth {seed} {clients}")
        self.seed_of, self.now, self.mark = seed, now, mark
        self.estate = Estate(DOMAIN, self.resources(), {}, {}, {}, {}, {"known.example"})
        self.names: set[str] = set()
        self._roles()
        self._people(max(20, clients // 40))
        for place in range(clients):
            self._client(place)
        ids = list(self.estate.clients)
        for client in list(self.estate.clients.values()):
            if self.random() < 0.75:
                for _ in range(self.choice((1, 2, 3, 5))):
                    self.choice(SCENARIOS)(self, client)
        self.estate.ledger += self._of_all()
        self.ids = ids

    # Chance

    def key(self) -> str:
        return str(UUID(int=self.getrandbits(128) ^ self.mark, version=4))

    def ago(self, *days: float) -> datetime:
        """One of these days before now, to the second or a second beside it."""
        return self.now - self.choice(days) * DAY + self.choice((0, 0, 1, -1)) * SECOND

    def ends(self, *days: float | None) -> datetime | None:
        found = self.choice(days)
        return None if found is None else self.now + found * DAY + self.choice((0, 0, 1, -1)) * SECOND

    def reach(self, resource: str) -> Reach:
        if resource == "boxes":
            paths = [*TREE, "gone"] if self.random() < 0.15 else list(TREE)
        elif resource == "jamb" and self.estate.clients:
            paths = [*self.sample(list(self.estate.clients), 2), "c" * 22]
        else:
            return None
        chosen = tuple(sorted(self.sample(paths, self.choice((1, 1, 2)))))
        return self.choice((None, ("only", chosen), ("only", chosen), ("all_but", chosen)))

    def kind(self) -> str:
        return "delegated" if self.random() < 0.25 else "application"

    def permission(self, resource: str, kind: str = "application") -> str:
        fitting = [name for name, kinds in self.estate.resources[resource].kinds.items() if kind in kinds]
        return self.choice(sorted(fitting))

    def hold(self, client: Client, resource: str, permission: str, **more: Any) -> Grant:
        kind = more.get("kind", "application")
        more.setdefault("begins", self.ago(13, 14, 15, 40, 100, 200))
        grant = Grant(resource, permission, **more)
        # Of a permission there is one consent for everyone, and one for each person.
        same = (resource, permission, kind, grant.person)
        client.grants = [one for one in client.grants if (one.resource, one.permission, one.kind, one.person) != same]
        client.grants.append(grant)
        if self.random() < 0.8:
            self.ask(client, resource, permission, kind, self.ago(29, 30, 31, 210))
        return grant

    def ask(self, client: Client, resource: str, permission: str, kind: str, at: datetime) -> None:
        rest = [one for one in client.asks if one[:3] != (resource, permission, kind)]
        client.asks = [*rest, (resource, permission, kind, at)]

    def use(self, client: Client, resource: str, operation: str, kind: str, at: datetime, calls: int = 3) -> None:
        days = client.uses.setdefault((resource, operation, kind), {})
        before, last = days.get(at.date(), (0, at))
        days[at.date()] = (before + calls, max(last, at))

    # What there is

    def resources(self) -> dict[str, Resource]:
        own = own_api.own_catalogue("https://own.example")
        found = {
            "jamb": Resource(
                "jamb",
                {
                    name: Operation(name, one.effect.value, one.data_class.value, own.concerns_object(name))
                    for name, one in own.operations.items()
                },
                {name: (set(one.unlocks), set(one.implies)) for name, one in own.permissions.items()},
                kinds={name: {kind.value for kind in one.kinds} for name, one in own.permissions.items()},
            )
        }
        for name in ("plain", "boxes", "heavy"):
            found[name] = self._resource(name)
            if self.random() < 0.5:
                found[name].uncounted = self.ago(3, 13, 14, 15, 60)
        return found

    def _resource(self, name: str) -> Resource:
        effects, classes = list(EFFECTS), list(CLASSES)
        if name == "plain":
            effects, classes = ["read", "write"], ["open", "internal"]
        elif name == "heavy":
            effects, classes = ["read", "write", "control"], ["internal", "personal", "restricted"]
        operations = {
            one: Operation(one, self.choice(effects), self.choice(classes), name == "boxes" and self.random() < 0.7)
            for one in (f"{name}-{number}" for number in range(7))
        }
        permissions: dict[str, tuple[set[str], set[str]]] = {}
        for number in range(5):
            implied = set(self.sample(sorted(permissions), self.choice((0, 0, 1)) if permissions else 0))
            unlocked = set(self.sample(sorted(operations), self.choice((1, 1, 2, 3))))
            permissions[f"p{number}"] = (unlocked, implied)
        kinds = {one: {"application", "delegated"} for one in permissions} | {"p4": {"application"}}
        return Resource(name, operations, permissions, dict(TREE) if name == "boxes" else {}, kinds)

    def _roles(self) -> None:
        for name in ("auditor", "registrar", "approver", "custodian", "steward"):
            held = next(one for one in own_api.ROLES if one.name == name)
            self.estate.roles[name] = Role(name, "jamb", sorted(held.permissions))
        for resource in ("plain", "boxes", "heavy"):
            self.estate.roles[f"{resource}-all"] = Role(
                f"{resource}-all", resource, sorted(self.estate.resources[resource].for_both)
            )
            for number in range(2):
                some = sorted({self.permission(resource) for _ in range(2)})
                self.estate.roles[f"{resource}-{number}"] = Role(f"{resource}-{number}", resource, some)

    def held(self, role: str) -> Held:
        reach = self.reach(self.estate.roles[role].resource) if self.random() < 0.5 else None
        begins, ends = self.ago(13, 14, 40, 200, -2), self.ends(None, None, None, -1, 3)
        return Held(role, begins, max(begins + DAY, ends) if ends is not None else None, reach)

    def _people(self, many: int) -> None:
        for name in ("crew", "office", "board"):
            inner = {"crew": ["office"], "office": [], "board": []}[name]
            self.estate.groups[name] = ([self.held(self.choice(sorted(self.estate.roles)))], inner)
        for place in range(many):
            person = Person(self.key(), f"Person {place:04}", place % 9 != 8)
            if place % 3:
                person.roles = [Held(one, self.ago(300), None) for one in self.estate.roles if one.endswith("-all")]
                person.roles.append(Held("steward", self.ago(300), None))
            for role in self.sample(sorted(self.estate.roles), self.choice((0, 1, 2))):
                if role not in {one.role for one in person.roles}:
                    person.roles.append(self.held(role))
            person.groups = self.sample(sorted(self.estate.groups), self.choice((0, 0, 1, 2)))
            self.estate.people[person.id] = person

    def named(self, wanted: str) -> bool:
        """Take a name, where no other client has it."""
        folded = unicodedata.normalize("NFKC", wanted).casefold()
        if folded in self.names:
            return False
        self.names.add(folded)
        return True

    def _client(self, place: int) -> None:
        name = f"Client {place:06} of {self.seed_of}"
        self.named(name)
        one = Client(f"t{self.mark % 2**40:010x}x{place:08}", name, self.ago(200, 400))
        people = list(self.estate.people)
        one.owners = [(key, "full") for key in self.sample(people, 2)]
        one.credentials = [self.secret(used=self.ago(1, 2))]
        self.estate.clients[one.id] = one
        for _ in range(self.choice((0, 1, 2))):
            permission = self.permission("plain")
            self.hold(one, "plain", permission, begins=self.ago(100, 200))
            for operation in sorted(self.estate.resources["plain"].opens(permission)):
                for back in range(self.choice((1, 3, 30))):
                    self.use(one, "plain", operation, "application", self.ago(1 + back))

    def secret(self, **more: Any) -> Credential:
        usual = {"issued": self.ago(30, 60), "ends": self.ends(60, 90)}
        return Credential(self.key(), "secret", f"jamb_s1_{self.getrandbits(40):010x}", **(usual | more))

    def _of_all(self) -> list[Entry]:
        """What was done to the policy and to resources, at any time of a year and more."""
        person, found = self.choice(list(self.estate.people.values())), []
        for resource in ("boxes", "heavy"):
            place = self.estate.resources[resource]
            found += [
                self.entry(
                    "resource.changed",
                    self.ago(20, 50, 150),
                    person,
                    subject={"name": resource},
                    after=after,
                    before=before,
                )
                for before, after in (
                    ({}, {"permissions changed": [self.permission(resource)]}),
                    ({}, {"operations changed": [self.choice(sorted(place.operations))], "kept": ["x"]}),
                    ({"identifier": "https://was.example"}, {"identifier": f"https://{resource}.{DOMAIN}"}),
                )
                if self.random() < 0.6
            ]
        found.append(
            self.entry(
                "collections.replaced",
                self.ago(35, 120),
                person,
                subject={"name": "boxes"},
                after={"other objects": self.sample(sorted(TREE), 2)},
            )
        )
        for name, back in (("two_people_weight", 20), ("two_approvers_weight", 90)):
            at = self.ago(45, 110)
            changes = [(at, 24, 900), (at + 2 * DAY, 900, 700), (at + 6 * DAY, 700, back)]
            found += [
                self.entry("policy.changed", when, person, before={name: before}, after={name: after})
                for when, before, after in changes
            ]
        return sorted(found, key=lambda one: one.at)

    def entry(self, action: str, at: datetime, by: Person, **more: Any) -> Entry:
        kind = "service" if self.random() < 0.05 else "person"
        return Entry(action, at, by.id, by.name, kind, **more)

    def someone(self) -> Person:
        return self.choice(list(self.estate.people.values()))


# Credentials


@scenario
def any_credential(draw: Draw, client: Client) -> None:
    """One whose dates may be anything."""
    issued = draw.ago(1, 13, 14, 20, 100, 181)
    one = draw.secret(issued=issued, ends=draw.ends(None, -1, 0, 1, 13, 14, 15, 60, 170))
    if draw.random() < 0.2:
        one.starts = draw.ago(-3, 1, 13, 14)
    if draw.random() < 0.25:
        one.disabled = draw.ago(1, 5)
    if draw.random() < 0.25:
        one.withdrawn = draw.ago(-2, 1, 3)
    if draw.random() < 0.7:
        one.used = min(draw.now, draw.ago(0.5, 6, 7, 8, 40, 89, 90, 91))
    client.credentials.append(one)


@scenario
def a_life_beside_the_longest(draw: Draw, client: Client) -> None:
    issued = draw.ago(10, 50)
    longest = issued + 180 * DAY + draw.choice((-12, 0, 0, 12)) * timedelta(hours=1) + draw.choice((-1, 0, 1)) * SECOND
    client.credentials.append(draw.secret(issued=issued, ends=longest, used=draw.ago(1, 3)))


@scenario
def many_credentials(draw: Draw, client: Client) -> None:
    client.credentials += [draw.secret(used=draw.ago(1, 5)) for _ in range(draw.choice((1, 2, 4)))]


@scenario
def keys(draw: Draw, client: Client) -> None:
    one = draw.secret(used=draw.ago(1, 89, 90, 95), ends=draw.ends(60, 200, 669, 671))
    one.kind, one.weak, one.hint = "keys", draw.random() < 0.6, f"keys k{draw.getrandbits(32):08x}"
    one.issued = draw.ago(60, 100)
    client.credentials = [one, *client.credentials] if draw.random() < 0.4 else [one]


@scenario
def public(draw: Draw, client: Client) -> None:
    client.kind = "native"
    if draw.random() < 0.5:
        client.credentials = []


@scenario
def a_rotation(draw: Draw, client: Client) -> None:
    if client.rotations:
        return
    old = draw.secret(used=draw.ago(1, 20), ends=draw.ends(-1, 0, 5, 60), disabled=draw.choice((None, None, draw.now)))
    new = draw.secret(issued=draw.ago(13, 14, 20), used=draw.choice((None, draw.ago(1))))
    client.credentials += [old, new]
    client.rotations = [(draw.key(), old.id, new.id, draw.ago(-1, 0, 0, 2))]


@scenario
def dead_tries(draw: Draw, client: Client) -> None:
    one = draw.secret(used=draw.ago(30), withdrawn=draw.choice((draw.ago(20), None)), ends=draw.ends(-10, 40))
    client.credentials.append(one)
    client.dead_tries += [(one.hint, draw.ago(1, 6, 7, 8)) for _ in range(draw.choice((1, 2)))]


@scenario
def replays(draw: Draw, client: Client) -> None:
    outcomes = ("code-replayed", "refresh-replayed", "code-expired", "challenge-missing")
    client.replays += [(draw.choice(outcomes), draw.ago(1, 6, 7, 8)) for _ in range(draw.choice((1, 2)))]


@scenario
def seen_by_somebody(draw: Draw, client: Client) -> None:
    one = draw.choice(client.credentials) if client.credentials else None
    if one is not None:
        action = draw.choice(("secret.issued", "secret.imported", "credential.added"))
        after = {"unseen": True} if draw.random() < 0.3 else {"hint": one.hint}
        said = draw.entry(action, draw.ago(5, 40, 364, 365, 366), draw.someone(), subject={"id": one.id}, after=after)
        client.ledger.append(said)
        if draw.random() < 0.3:
            agree(draw, client, said)


def agree(draw: Draw, client: Client, said: Entry) -> None:
    """Let another person have agreed to it, or to something of before or after."""
    at = said.at - draw.choice((1, 89, 90, 91, -1)) * DAY
    action = draw.choice(("agreement.given", "agreement.first-yes"))
    client.ledger.append(draw.entry(action, at, draw.someone(), after={"asked by": said.by_name, "act": "x"}))


# Privilege


def anywhere(draw: Draw) -> str:
    return draw.choice(("plain", "boxes", "boxes", "heavy", "heavy"))


@scenario
def holds(draw: Draw, client: Client) -> None:
    """Permissions of any age, reach and end, used in part."""
    resource, kind = anywhere(draw), draw.kind()
    for _ in range(draw.choice((1, 2, 3))):
        permission = draw.permission(resource, kind)
        draw.hold(
            client,
            resource,
            permission,
            kind=kind,
            reach=draw.reach(resource) if kind == "application" else None,
            ends=draw.ends(None, None, None, -1, 2, 30),
            begins=draw.ago(13, 14, 15, 100, 200, -2) if draw.random() < 0.5 else draw.ago(100, 200),
        )
        if draw.random() < 0.8:
            uses(draw, client, resource, permission, kind)


def uses(draw: Draw, client: Client, resource: str, permission: str, kind: str) -> None:
    opened = sorted(draw.estate.resources[resource].opens(permission))
    for operation in draw.sample(opened, draw.randrange(1, len(opened) + 1)):
        last = draw.ago(1, 10, 89, 90, 91, 120)
        draw.use(client, resource, operation, kind, last)
        if draw.random() < 0.3:
            draw.use(client, resource, operation, kind, draw.ago(95, 130))
        if kind == "application" and draw.estate.resources[resource].operations[operation].on_object:
            names = sorted({name for objects in TREE.values() for name in objects})
            near = sorted(TREE[draw.choice(("north/in", "south", "north"))])
            for name in draw.sample(near if draw.random() < 0.7 else [*names, ""], draw.choice((0, 1, 1, 2))):
                client.objects[resource, operation, name] = min(last, draw.ago(1, 20, 89, 90, 91))


@scenario
def touches_little(draw: Draw, client: Client) -> None:
    """Wide reach at the boxes, and a collection or two that it touches."""
    place = draw.estate.resources["boxes"]
    touched = sorted(place.collections[draw.choice(("north/in", "south", "south/out"))])
    for permission in sorted({draw.permission("boxes") for _ in range(draw.choice((1, 1, 2)))}):
        reach: Reach = draw.choice((None, None, ("only", ("north", "south")), ("all_but", ("board",))))
        draw.hold(client, "boxes", permission, reach=reach, begins=draw.ago(14, 60))
        for operation in sorted(place.opens(permission)):
            draw.use(client, "boxes", operation, "application", draw.ago(2, 5))
            if place.operations[operation].on_object:
                for name in draw.sample(touched, draw.randrange(1, len(touched) + 1)):
                    client.objects["boxes", operation, name] = draw.ago(2, 5)


@scenario
def holds_twice(draw: Draw, client: Client) -> None:
    """The same by a consent and by a role, of different age, reach and end."""
    role = draw.choice([one for one in draw.estate.roles.values() if one.resource != "jamb"])
    lend(draw, client, role.name)
    permission = draw.choice(role.permissions)
    draw.hold(client, role.resource, permission, reach=draw.reach(role.resource), ends=draw.ends(None, None, 5))
    if draw.random() < 0.6:
        uses(draw, client, role.resource, permission, "application")


def lend(draw: Draw, client: Client, role: str) -> Held:
    held = draw.held(role)
    # Nobody holds a role twice at one time.
    others = [one for one in client.roles if one.role == role and (one.ends is None or one.ends > held.begins)]
    client.roles = [one for one in client.roles if one not in others] + [held]
    return held


@scenario
def a_role(draw: Draw, client: Client) -> None:
    name = draw.choice(sorted(draw.estate.roles))
    held = lend(draw, client, name)
    if draw.random() < 0.7:
        said = draw.entry("role.assigned", held.begins, draw.someone(), subject={"role": name})
        client.ledger.append(said)
        if draw.random() < 0.4:
            agree(draw, client, said)


@scenario
def at_own_api(draw: Draw, client: Client) -> None:
    for _ in range(draw.choice((1, 1, 2))):
        kind = draw.kind()
        permission = draw.permission("jamb", kind)
        reach = draw.reach("jamb")
        draw.hold(
            client,
            "jamb",
            permission,
            kind=kind,
            reach=reach,
            begins=draw.ago(1, 5, 13, -2),
            ends=draw.ends(None, None, None, 3),
        )


@scenario
def asks(draw: Draw, client: Client) -> None:
    resource, kind = anywhere(draw), draw.kind()
    permission = draw.permission(resource, kind)
    draw.ask(client, resource, permission, kind, draw.ago(10, 29, 30, 31, 100))
    if draw.random() < 0.5:
        draw.hold(client, resource, permission, kind=kind, begins=draw.ago(150), ends=draw.ends(-1, -29, -30, -31, -90))


@scenario
def for_people(draw: Draw, client: Client) -> None:
    resource = anywhere(draw)
    permission, people = draw.permission(resource, "delegated"), list(draw.estate.people)
    for person in draw.choice(([""], [""], ["", draw.choice(people)], draw.sample(people, 2))):
        draw.hold(client, resource, permission, kind="delegated", person=person)
    opened = sorted(draw.estate.resources[resource].opens(permission))
    for operation in draw.sample(opened, draw.randrange(len(opened) + 1)):
        last = draw.ago(1, 50, 89, 90)
        draw.use(client, resource, operation, "delegated", last)
        named = [one.person for one in client.grants if one.person] + draw.sample(people, 2)
        for person in draw.sample(named, draw.randrange(len(named) + 1)):
            client.people[resource, operation, person] = min(last, draw.ago(1, 89, 90, 95))


@scenario
def given(draw: Draw, client: Client) -> None:
    """Consents that the ledger tells of: asked and given by one or two, weighed or not, beside a role or not."""
    resource = anywhere(draw)
    permissions = sorted({draw.permission(resource) for _ in range(draw.choice((1, 2, 3)))})
    asker, at = draw.someone(), draw.ago(5, 42, 107, 200, 364, 365)
    said = {"resource": resource, "permissions": permissions}
    client.ledger.append(draw.entry("permission.asked", at - DAY, asker, after=said))
    giver = asker if draw.random() < 0.6 else draw.someone()
    after = {**said, "newly possible": draw.choice(([], ["x"]))}
    if draw.random() < 0.2:
        after["weight"] = 30
    entry = draw.entry("consent.granted", at, giver, after=after)
    if draw.random() < 0.15:
        other = draw.choice(list(draw.estate.clients.values()))
        entry = Entry("consent.granted", at, other.id, other.name, "client", after=after)
    client.ledger.append(entry)
    if draw.random() < 0.3:
        agree(draw, client, entry)
    for permission in permissions:
        draw.hold(client, resource, permission, begins=at)
    if draw.random() < 0.5:
        client.roles = [one for one in client.roles if one.role != f"{resource}-all"]
        client.roles.append(Held(f"{resource}-all", at - 5 * DAY, draw.choice((None, draw.ago(0, 1), at - DAY))))


# Owners


@scenario
def taken(draw: Draw, client: Client) -> None:
    """Somebody who may do little became its owner, or saw its secret, and it may do much."""
    weak = [one for one in draw.estate.people.values() if one.live and len(one.roles) < 3]
    for permission in draw.sample(sorted(draw.estate.resources["heavy"].permissions), 3):
        draw.hold(client, "heavy", permission, begins=draw.ago(20, 42, 107))
    person = draw.choice(weak)
    if draw.random() < 0.5:
        client.owners = [(person.id, "full"), *(one for one in client.owners[:1] if one[0] != person.id)]
        others = [draw.estate.people[key].name for key, _ in client.owners[1:]]
        client.ledger.append(
            draw.entry(
                "owners.changed",
                draw.ago(3, 100),
                person,
                before={"owners": others},
                after={"owners": [person.name, *others]},
            )
        )
    elif client.credentials:
        about = {"id": draw.choice(client.credentials).id}
        client.ledger.append(draw.entry("secret.issued", draw.ago(2, 90), person, subject=about, after={"hint": "x"}))


@scenario
def owners(draw: Draw, client: Client) -> None:
    chosen = draw.sample(list(draw.estate.people), draw.choice((0, 1, 1, 2, 3)))
    client.owners = [(key, draw.choice(("full", "full", "edit", "read"))) for key in chosen]
    if chosen and draw.random() < 0.6:
        person = draw.estate.people[chosen[0]]
        others = [draw.estate.people[key].name for key in chosen[1:]]
        said = draw.entry(
            "owners.changed",
            draw.ago(3, 100, 365),
            person,
            before={"owners": others},
            after={"owners": [person.name, *others]},
        )
        client.ledger.append(said)
        if draw.random() < 0.3:
            agree(draw, client, said)


# Registration


@scenario
def registered_lately(draw: Draw, client: Client) -> None:
    client.registered = draw.ago(5, 29, 30, 31)
    if draw.random() < 0.8:
        client.credentials = [draw.secret(used=None, issued=draw.ago(1, 14))] if draw.random() < 0.5 else []
        client.uses = {}


@scenario
def dormant(draw: Draw, client: Client) -> None:
    for one in client.credentials:
        one.used = draw.ago(89, 90, 91, 150)
    if draw.random() < 0.7:
        client.uses = {}


@scenario
def no_longer_live(draw: Draw, client: Client) -> None:
    client.state = draw.choice(("disabled", "disabled", "removed"))


@scenario
def restored(draw: Draw, client: Client) -> None:
    said = draw.entry("client.restored", draw.ago(1, 200, 364, 365), draw.someone())
    client.ledger.append(said)
    if draw.random() < 0.4:
        agree(draw, client, said)


@scenario
def purpose(draw: Draw, client: Client) -> None:
    client.purpose = draw.choice(("", "Cameras", "Two words", "  One  "))


@scenario
def redirects(draw: Draw, client: Client) -> None:
    client.redirects = draw.sample(
        [
            "https://a.truth.example/r",
            "http://a.truth.example/r",
            "HTTP://a.truth.example/r",
            "http://localhost:9/r",
            "http://[::1]:8080/r",
            "https://other.example/r",
            "https://a.truth.example@evil.example/r",
            "https://truth.example.org/r",
            "org.app.example://signed-in",
            "ORG.APP.EXAMPLE:/in",
            "https://x.maker.example/r",
            "https://A.TRUTH.EXAMPLE/r",
            "https://nottruth.example/r",
        ],
        draw.choice((1, 2)),
    )
    client.answered = {one for one in client.redirects if draw.random() < 0.6}
    if draw.random() < 0.4:
        client.registered = draw.ago(9, 10, 11, 29, 30, 31)


@scenario
def grant_types(draw: Draw, client: Client) -> None:
    client.kind = draw.choice(("native", "device"))
    theirs = ["authorization_code", "refresh_token", DEVICE_CODE]
    client.grant_types = draw.choice(([], ["refresh_token", DEVICE_CODE], [DEVICE_CODE]))
    client.got_by = set(draw.sample(theirs, draw.choice((0, 1, 2, 3))))
    client.grant_types_since = draw.choice((None, draw.ago(9, 29, 30, 31)))


@scenario
def publisher(draw: Draw, client: Client) -> None:
    client.publisher = draw.choice(("maker.example", "known.example", "it.truth.example", "truth.example"))


@scenario
def trial(draw: Draw, client: Client) -> None:
    client.trial = draw.ago(-5, -1, 0, 0, 3)


@scenario
def alike(draw: Draw, client: Client) -> None:
    other = draw.choice(list(draw.estate.clients.values()))
    wanted = other.name.replace(*draw.choice((("0", "O"), ("o", "о"), ("Client", "C lient"), ("i", "1"), ("e", "é"))))
    if other is not client and draw.named(wanted):
        client.name = wanted


@scenario
def logo(draw: Draw, client: Client) -> None:
    client.publisher = draw.choice(("", "known.example", "maker.example"))
    drawn = list(range(1, 73)) if draw.choice((True, False)) else [draw.choice((10, 90)) for _ in range(72)]
    other = draw.choice(list(draw.estate.clients.values()))
    drawn = list(other.logo) or drawn
    for place in draw.sample(range(72), draw.choice((0, 0, 1, 2, 3, 8))):
        drawn[place] = draw.choice((5, 200))
    client.logo = draw.choice((bytes(drawn), bytes(drawn), bytes(72)))


# Habit


@scenario
def networks(draw: Draw, client: Client) -> None:
    names = [f"192.0.{number}.0/24" for number in range(9)]
    begun = draw.ago(10, 21, 60)
    client.networks = [(names[0], begun)]
    for name in names[1 : draw.choice((2, 2, 3, 5, 6))]:
        client.networks.append((name, max(begun, draw.choice((draw.ago(0.5, 3, 7, 8), begun + 14 * DAY)))))
    client.networks = [(name, min(first, draw.now)) for name, first in client.networks]


@scenario
def calls(draw: Draw, client: Client) -> None:
    """A habit that ends, or rises."""
    back, days = draw.choice((0, 1, 2, 3, 4, 5, 15, 16, 17)), draw.choice((6, 7, 19, 20, 21, 28))
    client.uses = {}
    for day in range(back, back + days):
        draw.use(client, "plain", "plain-0", "application", draw.now - day * DAY, calls=10)
    if draw.random() < 0.5:
        day = draw.choice((back, back + 1, 0, 1, 7, 8))
        draw.use(client, "plain", "plain-1", "application", draw.now - day * DAY, draw.choice((89, 100, 110, 500)))
    for one in client.credentials:
        one.used = draw.now - draw.choice((back, back, 2, 3)) * DAY


def public_key(draw: Random, one: Credential) -> dict[str, str]:
    """A key as small as the credential says; none of it is ever used."""
    kid = one.hint.removeprefix("keys ")
    if not one.weak:
        return {"kty": "EC", "crv": "P-256", "kid": kid, "x": "", "y": ""}
    modulus = draw.getrandbits(2048) | (1 << 2047) | 1
    coded = base64.urlsafe_b64encode(modulus.to_bytes(256, "big")).decode().rstrip("=")
    return {"kty": "RSA", "kid": kid, "n": coded, "e": "AQAB"}
