"""The rules once more, each as literally as docs/audit-rules.md says it, with no thought of speed."""

from __future__ import annotations

import unicodedata
from collections.abc import Callable, Iterable, Iterator
from datetime import date, datetime, timedelta
from functools import cached_property
from itertools import combinations
from urllib.parse import urlsplit

from tests.oracle.facts import (
    DAY,
    DEVICE_CODE,
    POLICY,
    Client,
    Credential,
    Entry,
    Estate,
    Grant,
    Person,
    Reach,
    Resource,
)

Said = tuple[str, str]
Find = Callable[["Look"], Iterator[Said]]
RULES: dict[str, Find] = {}
GRAVE_DATA = {"personal", "restricted"}
# Who may do one of these to a client can act as it.
TAKES_OVER = {
    "credentials.issue",
    "credentials.make",
    "credentials.add",
    "rotations.open",
    "rotations.open-all",
    "rotations.reissue",
    "handovers.make",
    "handovers.seal",
    "owners.change",
}
LOOPBACK = {"127.0.0.1", "::1", "localhost"}


def rule(name: str) -> Callable[[Find], Find]:
    def add(find: Find) -> Find:
        RULES[name] = find
        return find

    return add


class All:
    """An estate at one moment: what is asked of it for many clients is looked up once."""

    def __init__(self, estate: Estate, now: datetime) -> None:
        self.estate, self.now = estate, now

    @cached_property
    def there(self) -> set[str]:
        return {key for key, one in self.estate.clients.items() if one.state != "removed"}

    @cached_property
    def looks(self) -> dict[str, list[Client]]:
        found: dict[str, list[Client]] = {}
        for one in self.estate.clients.values():
            if one.state != "removed":
                found.setdefault(_look(one.name), []).append(one)
        return found

    @cached_property
    def pictured(self) -> list[Client]:
        return [one for one in self.estate.clients.values() if one.state != "removed" and one.logo]

    @cached_property
    def schemes(self) -> dict[str, list[Client]]:
        found: dict[str, list[Client]] = {}
        for one in self.estate.clients.values():
            for scheme in _schemes(one) if one.state != "removed" else ():
                found.setdefault(scheme, []).append(one)
        return found

    @cached_property
    def strong(self) -> set[str]:
        """Live clients that can themselves give access."""
        return {key for key, one in self.estate.clients.items() if one.state == "live" and _controls(Look(self, one))}


class Look:
    """One client of an estate at one moment, with the terms of the page."""

    def __init__(self, every: All, client: Client) -> None:
        self.all, self.client = every, client
        self.estate, self.now = every.estate, every.now
        self.live = client.state == "live"

    def works(self, one: Credential) -> bool:
        if one.withdrawn is not None and one.withdrawn <= self.now:
            return False
        if one.ends is not None and one.ends <= self.now:
            return False
        return one.disabled is None and (one.starts is None or one.starts <= self.now)

    @property
    def working(self) -> list[Credential]:
        return [one for one in self.client.credentials if self.works(one)]

    def all_grants(self) -> list[Grant]:
        """Consents, and what roles give, whenever they count."""
        found = list(self.client.grants)
        for held in self.client.roles:
            role = self.estate.roles[held.role]
            found += [
                Grant(role.resource, name, held.begins, held.ends, reach=held.reach, role=held.role)
                for name in role.permissions
            ]
        return found

    def counts(self, one: Grant) -> bool:
        return one.begins <= self.now and (one.ends is None or self.now < one.ends)

    def grants(self, kind: str = "") -> list[Grant]:
        return [one for one in self.all_grants() if self.counts(one) and kind in ("", one.kind)]

    def held(self, kind: str = "") -> dict[tuple[str, str, str], list[Grant]]:
        """By resource, permission and kind of access."""
        found: dict[tuple[str, str, str], list[Grant]] = {}
        for one in self.grants(kind):
            found.setdefault((one.resource, one.permission, one.kind), []).append(one)
        return found

    def resource(self, name: str) -> Resource:
        return self.estate.resources[name]

    def at(self, resource: str, kind: str) -> dict[str, list[Grant]]:
        return {name: rows for (place, name, sort), rows in self.held().items() if (place, sort) == (resource, kind)}

    def old(self, moment: datetime) -> bool:
        return self.now - moment >= POLICY["observation_days"] * DAY

    def watched(self, resource: str, moment: datetime) -> bool:
        uncounted = self.resource(resource).uncounted
        return self.old(moment) and (uncounted is None or self.old(uncounted))

    def old_before(self, moment: datetime, earlier: datetime) -> bool:
        return moment - earlier >= POLICY["observation_days"] * DAY

    def used(self, resource: str, permission: str, kind: str) -> tuple[set[str], datetime | None]:
        """What of a permission was used and still counts, and when any of it was used last."""
        place = self.resource(resource)
        smaller = {one for one in self.at(resource, kind) if one != permission and one in place.implied(permission)}
        mine = place.opens(permission) - place.opens(*smaller)
        last = {
            operation: max(at for _, at in days.values())
            for (where, operation, sort), days in self.client.uses.items()
            if (where, sort) == (resource, kind) and operation in mine
        }
        counting = {one for one, at in last.items() if self.now - at < POLICY["use_counts_days"] * DAY}
        return counting, max(last.values(), default=None)

    @property
    def seen(self) -> datetime | None:
        """When it was seen at work last."""
        calls = [at for days in self.client.uses.values() for _, at in days.values()]
        tokens = [one.used for one in self.client.credentials if one.used is not None]
        return max([*calls, *tokens], default=None)

    def weight_as_itself(self) -> int:
        places = {one.resource for one in self.grants("application")}
        return sum(self.resource(one).weigh(self.resource(one).opens(*self.at(one, "application"))) for one in places)

    def known(self, resource: str, reaches: Iterable[Reach]) -> set[str]:
        """Every object, by name; an empty name stands for all those in no collection."""
        if resource == "jamb":
            return {"", *(name for reach in reaches if reach is not None for name in reach[1])}
        return {"", *(name for objects in self.resource(resource).collections.values() for name in objects)}

    def inside(self, resource: str, path: str) -> set[str]:
        if resource == "jamb":
            return {path}
        return {
            name
            for other, objects in self.resource(resource).collections.items()
            if other == path or other.startswith(path + "/")
            for name in objects
        }

    def reached(self, resource: str, reaches: Iterable[Reach], known: set[str]) -> set[str]:
        found: set[str] = set()
        for reach in reaches:
            if reach is None:
                return set(known)
            listed = {name for path in reach[1] for name in self.inside(resource, path)}
            found |= listed if reach[0] == "only" else known - listed
        return found

    def possible(self, resource: str, rows: Iterable[tuple[str, Reach]], known: set[str]) -> dict[str, set[str]]:
        """By operation, over which objects; over all of them where it is about none."""
        place, found = self.resource(resource), {}
        for permission, reach in rows:
            for name in place.opens(permission):
                whole = not place.operations[name].on_object
                objects = set(known) if whole else self.reached(resource, [reach], known)
                if objects:
                    found[name] = found.get(name, set()) | objects
        return found

    def rights(self, person: Person) -> list[tuple[str, str, Reach]]:
        """What a person may do by roles of their own and of their groups: resource, permission and where."""
        groups, wanted = set(), list(person.groups)
        while wanted:
            one = wanted.pop()
            if one not in groups:
                groups.add(one)
                wanted += self.estate.groups[one][1]
        held = [*person.roles, *(one for name in groups for one in self.estate.groups[name][0])]
        return [
            (self.estate.roles[one.role].resource, name, one.reach)
            for one in held
            if one.begins <= self.now and (one.ends is None or self.now < one.ends)
            for name in self.estate.roles[one.role].permissions
        ]

    def beyond(self, person: Person) -> int:
        """The weight of the grave operations that the client may do and an owner may not, wherever it may."""
        weight, rights = 0, self.rights(person)
        for name in {one.resource for one in self.grants("application")}:
            mine = [(permission, reach) for place, permission, reach in rights if place == name]
            theirs = [(one.permission, one.reach) for one in self.grants("application") if one.resource == name]
            known = self.known(name, [reach for _, reach in (*mine, *theirs)])
            want, have = self.possible(name, theirs, known), self.possible(name, mine, known)
            for operation, objects in want.items():
                what = self.resource(name).operations[operation]
                if (what.data in GRAVE_DATA or what.effect == "control") and not objects <= have.get(operation, set()):
                    weight += what.weight
        return weight

    def owners(self) -> list[Person]:
        """Who may sign in and answers for everything."""
        people = [(self.estate.people[key], level) for key, level in self.client.owners]
        return [one for one, level in people if one.live and level == "full"]

    # The ledger

    @property
    def ledger(self) -> list[Entry]:
        return sorted([*self.client.ledger, *self.estate.ledger], key=lambda one: one.at)

    def looked_back(self, one: Entry) -> bool:
        if one.kind not in {"person", "client"} or self.now - one.at >= 365 * DAY:
            return False
        return not any(
            yes.action in {"agreement.given", "agreement.first-yes"}
            and yes.after["asked by"] == one.by_name
            and timedelta() <= one.at - yes.at <= 90 * DAY
            and self.now - yes.at < 365 * DAY
            for yes in self.client.ledger
        )

    def giving(self, one: Grant) -> Entry | None:
        """The entry by which a consent that stands was given."""
        given = [
            entry
            for entry in self.client.ledger
            if entry.action == "consent.granted"
            and entry.at <= one.begins
            and entry.after["resource"] == one.resource
            and one.permission in entry.after["permissions"]
            and self.now - entry.at < 365 * DAY
        ]
        return max(given, key=lambda entry: entry.at, default=None)


def _latest(entries: list[Entry]) -> Entry:
    """The latest; of several at one moment, that which was entered last."""
    return max(reversed(entries), key=lambda one: one.at)


def by_weight(weight: float) -> str:
    return "high" if weight >= 24 else "medium" if weight >= 4 else "low"


def by_two(weight: float) -> str:
    return "high" if weight >= POLICY["two_approvers_weight"] else "medium"


def subject(key: tuple[str, str, str]) -> str:
    return "/".join(key)


# Credentials


@rule("credential-expiring")
def expiring(look: Look) -> Iterator[Said]:
    soon = POLICY["warn_days"] * DAY
    for one in look.working:
        if one.ends is None or one.ends - look.now > soon:
            continue
        outlasted = any(
            other is not one and (other.ends is None or (other.ends - look.now > soon and other.ends > one.ends))
            for other in look.working
        )
        lately = one.used is not None and look.now - one.used <= 7 * DAY
        yield one.id, "low" if outlasted else "high" if lately else "medium"


@rule("credential-expired")
def expired(look: Look) -> Iterator[Said]:
    for one in look.client.credentials:
        withdrawn = one.withdrawn is not None and one.withdrawn <= look.now
        if one.ends is not None and one.ends <= look.now and not withdrawn:
            yield one.id, "low" if look.working else "medium"


@rule("credential-lives-too-long")
def too_long(look: Look) -> Iterator[Said]:
    for one in look.working:
        longest = POLICY["secret_longest_days" if one.kind == "secret" else "key_longest_days"] * DAY
        if one.ends is None:
            yield one.id, "high"
        elif one.ends - one.issued > longest:
            yield one.id, "medium"


@rule("several-credentials")
def several(look: Look) -> Iterator[Said]:
    if len(look.working) > 2:
        yield "", "medium" if len(look.working) > POLICY["credentials_at_once"] else "low"


@rule("credential-never-used")
def credential_never_used(look: Look) -> Iterator[Said]:
    following = {new for _, _, new, _ in look.client.rotations}
    for one in look.working:
        since = max(one.issued, one.starts or one.issued)
        if one.used is None and look.old(since) and one.id not in following:
            yield one.id, "low"


@rule("credential-dormant")
def credential_dormant(look: Look) -> Iterator[Said]:
    for one in look.working:
        if one.used is not None and look.now - one.used >= 90 * DAY:
            yield one.id, "medium"


@rule("weak-key")
def weak_key(look: Look) -> Iterator[Said]:
    for one in look.working:
        if one.weak:
            yield one.id, "low"


@rule("key-due")
def key_due(look: Look) -> Iterator[Said]:
    secrets = [one for one in look.working if one.kind == "secret"]
    if secrets and look.weight_as_itself() > POLICY["secret_heaviest_weight"]:
        yield "", "high"


@rule("rotation-overdue")
def overdue(look: Look) -> Iterator[Said]:
    works = {one.id for one in look.working}
    for key, old, _, overlap_ends in look.client.rotations:
        if overlap_ends <= look.now and old in works:
            yield key, "high"


@rule("expired-credential-tried")
def still_tried(look: Look) -> Iterator[Said]:
    works = {one.hint for one in look.working}
    last: dict[str, datetime] = {}
    for hint, at in look.client.dead_tries:
        last[hint] = max(last.get(hint, at), at)
    for hint, at in last.items():
        if look.now - at <= 7 * DAY and hint not in works:
            yield hint, "medium" if works else "high"


@rule("token-replayed")
def replayed(look: Look) -> Iterator[Said]:
    for what in ("code-replayed", "refresh-replayed"):
        if any(outcome == what and look.now - at <= 7 * DAY for outcome, at in look.client.replays):
            yield what, "high"


@rule("pkce-missing")
def no_challenge(look: Look) -> Iterator[Said]:
    if any(outcome == "challenge-missing" and look.now - at <= 7 * DAY for outcome, at in look.client.replays):
        yield "", "medium"


@rule("secret-on-public-client")
def public_secret(look: Look) -> Iterator[Said]:
    if look.client.kind in {"native", "device"} and any(one.kind == "secret" for one in look.working):
        yield "", "high"


@rule("credential-seen-by-another")
def seen_by_another(look: Look) -> Iterator[Said]:
    weight = look.weight_as_itself()
    owners = {look.estate.people[key].name for key, level in look.client.owners if level == "full"}
    if weight < POLICY["two_people_weight"]:
        return
    for one in look.working:
        for entry in look.client.ledger:
            given = entry.action in {"secret.issued", "secret.imported", "credential.added"}
            seen = given and entry.subject["id"] == one.id and not entry.after.get("unseen")
            if seen and look.looked_back(entry) and entry.by_name not in owners and entry.by != look.client.id:
                yield one.id, by_two(weight)
                break


# Privilege


@rule("permission-never-used")
def permission_never_used(look: Look) -> Iterator[Said]:
    for key, rows in look.held().items():
        shared = [one.begins for one in rows if not one.person]
        counting, _ = look.used(*key)
        if shared and look.watched(key[0], min(shared)) and not counting:
            place = look.resource(key[0])
            severity = by_weight(place.weigh(place.opens(key[1])))
            yield subject(key), "medium" if key[2] == "delegated" and severity == "high" else severity


@rule("permission-implied")
def implied(look: Look) -> Iterator[Said]:
    held = look.held()
    for key, rows in held.items():
        resource, permission, kind = key
        consents = [one for one in rows if not one.role]
        for other, bigger in look.at(resource, kind).items():
            if other == permission or permission not in look.resource(resource).implied(other):
                continue
            if consents and all(_held_by(look, one, bigger) for one in consents):
                yield subject(key), "low"
                break


def _held_by(look: Look, one: Grant, others: list[Grant]) -> bool:
    fitting = [
        other.reach
        for other in others
        if other.person in ("", one.person)
        and (other.ends is None or (one.ends is not None and other.ends >= one.ends))
    ]
    known = look.known(one.resource, [one.reach, *fitting])
    mine = look.reached(one.resource, [one.reach], known)
    return bool(fitting) and mine <= look.reached(one.resource, fitting, known)


def _smallest(place: Resource, kind: str, done: set[str], within: set[str]) -> tuple[int, list[str]] | None:
    """The weight of the lightest permissions that open all of it and nothing from without; of equals the fewest."""
    fitting = sorted(name for name in place.permissions if place.opens(name) <= within and kind in place.kinds[name])
    best = None
    for size in range(len(fitting) + 1):
        for names in combinations(fitting, size):
            opened = place.opens(*names)
            if done <= opened:
                found = (place.weigh(opened), size, list(names))
                best = found if best is None or found[:2] < best[:2] else best
    return (best[0], best[2]) if best is not None else None


def _larger(look: Look, kind: str) -> Iterator[tuple[str, int]]:
    for resource in sorted({one.resource for one in look.grants(kind)}):
        if resource == "jamb":
            # Its permissions are too many to try all sets of them; nothing there is reported as used here.
            continue
        place = look.resource(resource)
        counted = {
            name: look.used(resource, name, kind)[0]
            for name, rows in look.at(resource, kind).items()
            if look.watched(resource, min(one.begins for one in rows))
        }
        counted = {name: done for name, done in counted.items() if done}
        done = {one for used in counted.values() for one in used}
        opened = place.opens(*counted)
        if done and (best := _smallest(place, kind, done, opened)) is not None and best[0] < place.weigh(opened):
            yield resource, place.weigh(opened) - best[0]


@rule("permission-larger-than-use")
def larger(look: Look) -> Iterator[Said]:
    for resource, saved in _larger(look, "application"):
        yield resource, by_weight(saved)


@rule("larger-than-use-for-people")
def larger_for_people(look: Look) -> Iterator[Said]:
    for resource, saved in _larger(look, "delegated"):
        yield resource, "medium" if saved >= 4 else "low"


def _controls(look: Look) -> set[str]:
    """The permissions at Jamb's own API by which a client may, as itself, do an operation whose effect is control."""
    place = look.resource("jamb")
    names = {one.permission for one in look.grants("application") if one.resource == "jamb"}
    return {one for one in names if any(place.operations[name].effect == "control" for name in place.opens(one))}


@rule("controls-registrations")
def controls(look: Look) -> Iterator[Said]:
    names = _controls(look)
    reaches = [one.reach for one in look.grants("application") if one.resource == "jamb" and one.permission in names]
    if names:
        bounded = all(reach is not None and reach[0] == "only" for reach in reaches)
        yield "", "medium" if bounded else "high"


@rule("granted-not-asked")
def not_asked(look: Look) -> Iterator[Said]:
    asked = {(resource, name, kind) for resource, name, kind, _ in look.client.asks}
    for key, rows in look.held().items():
        if key not in asked and any(not one.role for one in rows):
            yield subject(key), "low"


@rule("asked-never-granted")
def never_granted(look: Look) -> Iterator[Said]:
    for resource, name, kind, asked in look.client.asks:
        same = [one for one in look.all_grants() if (one.resource, one.permission, one.kind) == (resource, name, kind)]
        ended = [one.ends for one in same if one.ends is not None and one.ends <= look.now]
        held = any(name in look.resource(resource).implied(one) for one in look.at(resource, kind))
        if not held and look.now - max([asked, *ended]) >= 30 * DAY:
            yield f"{resource}/{name}/{kind}", "low"


@rule("top-role-on-client")
def top_role(look: Look) -> Iterator[Said]:
    wide = {
        one.role: one.resource for one in look.grants() if one.role and (one.reach is None or one.reach[0] != "only")
    }
    for name, resource in wide.items():
        place = look.resource(resource)
        every = place.opens(*place.for_both) or set(place.operations)
        if place.opens(*look.estate.roles[name].permissions) >= every:
            yield f"{resource}/the role {name}", "high"


@rule("controls-through-others")
def through_others(look: Look) -> Iterator[Said]:
    place = look.resource("jamb")
    ways = [
        one.reach
        for one in look.grants("application")
        if one.resource == "jamb" and place.opens(one.permission) & TAKES_OVER
    ]
    wide = [reach for reach in ways if reach is None or reach[0] == "all_but"]
    strong = look.all.strong - {look.client.id} if ways else set()
    together = {key for key in strong if any(reach is None or key not in reach[1] for reach in wide)}
    if together:
        yield "", "high"
    for key in strong - together:
        if any(reach is not None and reach[0] == "only" and key in reach[1] for reach in ways):
            yield key, "high"


@rule("owner-weaker-than-client")
def weaker(look: Look) -> Iterator[Said]:
    worst = max((look.beyond(one) for one in look.owners()), default=0)
    if look.live and worst >= 24:
        yield "", "high" if worst >= 72 else "medium"


@rule("owner-by-own-hand")
def own_hand(look: Look) -> Iterator[Said]:
    for person in look.owners():
        weight = look.beyond(person)
        if weight >= POLICY["two_people_weight"] and any(
            entry.action == "owners.changed"
            and entry.by == person.id
            and look.looked_back(entry)
            and person.name in entry.after["owners"]
            and person.name not in entry.before["owners"]
            for entry in look.client.ledger
        ):
            yield person.name, by_two(weight)


@rule("asked-and-consented-by-one")
def by_one(look: Look) -> Iterator[Said]:
    names: dict[str, dict[str, set[str]]] = {}
    for one in look.grants("application"):
        entry = look.giving(one) if not one.role else None
        if entry is None or not look.looked_back(entry) or "weight" in entry.after:
            continue
        asked = any(
            ask.action == "permission.asked"
            and ask.by == entry.by
            and ask.after["resource"] == one.resource
            and one.permission in ask.after["permissions"]
            and look.now - ask.at < 365 * DAY
            for ask in look.client.ledger
        )
        if asked or entry.kind == "client":
            names.setdefault(entry.by_name, {}).setdefault(one.resource, set()).add(one.permission)
    for who, places in names.items():
        weight = sum(look.resource(at).weigh(look.resource(at).opens(*held)) for at, held in places.items())
        if weight >= POLICY["two_people_weight"]:
            yield who, by_two(weight)


@rule("role-given-alone")
def role_alone(look: Look) -> Iterator[Said]:
    for name in {one.role for one in look.grants() if one.role}:
        given = [one for one in look.client.ledger if one.action == "role.assigned" and one.subject["role"] == name]
        given = [one for one in given if look.now - one.at < 365 * DAY]
        role = look.estate.roles[name]
        place = look.resource(role.resource)
        weight = place.weigh(place.opens(*role.permissions))
        if given and look.looked_back(_latest(given)) and weight >= POLICY["two_people_weight"]:
            yield f"{role.resource}/{name}", by_two(weight)


@rule("restored-alone")
def restored(look: Look) -> Iterator[Said]:
    done = [one for one in look.client.ledger if one.action == "client.restored" and look.now - one.at < 365 * DAY]
    weight = look.weight_as_itself()
    if done and look.looked_back(_latest(done)) and weight >= POLICY["two_people_weight"]:
        yield "", by_two(weight)


@rule("changed-after-consent")
def changed(look: Look) -> Iterator[Said]:
    for key, rows in look.held("application").items():
        consents = [one for one in rows if not one.role]
        found = set()
        for entry in look.estate.ledger:
            if entry.action not in {"resource.changed", "collections.replaced"} or not look.looked_back(entry):
                continue
            if not consents or entry.subject["name"] != key[0] or "kept" in entry.after:
                continue
            if entry.at <= min(one.begins for one in consents):
                continue
            what = {key[1], *look.resource(key[0]).opens(key[1])}
            paths = {path for one in consents if one.reach is not None for path in one.reach[1]}
            if entry.before.get("identifier") not in (None, entry.after.get("identifier")):
                found.add("high")
            elif what & {
                *entry.after.get("permissions changed", ()),
                *entry.after.get("operations changed", ()),
            } or paths & set(entry.after.get("other objects", ())):
                found.add("low")
        if found:
            yield subject(key), "high" if "high" in found else "low"


@rule("held-already-by-what-ended")
def shadow(look: Look) -> Iterator[Said]:
    for key, rows in look.held("application").items():
        place = look.resource(key[0])
        for one in rows:
            entry = look.giving(one) if not one.role else None
            if entry is None or not look.looked_back(entry) or "weight" in entry.after:
                continue
            ended = [
                held
                for held in look.client.roles
                if look.estate.roles[held.role].resource == key[0]
                and held.ends is not None
                and held.begins <= entry.at < held.ends <= look.now
                and place.opens(*look.estate.roles[held.role].permissions) >= place.opens(key[1])
            ]
            if ended and entry.after.get("newly possible") == []:
                yield subject(key), "medium"
                break


@rule("granted-under-loose-limits")
def loose(look: Look) -> Iterator[Said]:
    windows = []
    for raised in look.estate.ledger:
        for name in ("two_people_weight", "two_approvers_weight"):
            if raised.action != "policy.changed" or not look.looked_back(raised):
                continue
            if raised.after.get(name, 0) <= raised.before.get(name, 10**9):
                continue
            back = [
                one.at
                for one in look.estate.ledger
                if one.action == "policy.changed"
                and one.at > raised.at
                and one.at <= look.now
                and one.after.get(name, 10**9) <= raised.before[name]
            ]
            if back:
                windows.append((raised.at, min(back)))
    for key, rows in look.held("application").items():
        place = look.resource(key[0])
        heavy = place.weigh(place.opens(key[1])) >= POLICY["two_people_weight"]
        if heavy and any(low <= one.begins <= high for one in rows if not one.role for low, high in windows):
            yield subject(key), "high"


# Reach


@rule("reach-unbounded")
def unbounded(look: Look) -> Iterator[Said]:
    for key, rows in look.held("application").items():
        place = look.resource(key[0])
        touching = [
            one for name in place.opens(key[1]) if (one := place.operations[name]).on_object and one.data in GRAVE_DATA
        ]
        if touching and place.collections and any(one.reach is None or one.reach[0] == "all_but" for one in rows):
            worse = any(one.data == "restricted" or one.effect != "read" for one in touching)
            yield subject(key), "high" if worse else "medium"


@rule("reach-larger-than-use")
def reach_larger(look: Look) -> Iterator[Said]:
    for resource in sorted({one.resource for one in look.grants("application")}):
        place = look.resource(resource)
        here = [one for one in look.grants("application") if one.resource == resource]
        old = [one for one in here if not one.role and look.watched(resource, one.begins)]
        if not old or not place.collections:
            continue
        others = [one for one in here if one not in old]
        done = {name for one in old for name in look.used(resource, one.permission, "application")[0]}
        anyway = place.opens(
            *(
                one.permission
                for one in others
                if one.reach is None
                and all(one.ends is None or (it.ends is not None and one.ends >= it.ends) for it in old)
            )
        )
        needed = (done & place.opens(*(one.permission for one in old))) - anyway
        on_objects = {name for name in needed if place.operations[name].on_object}
        since = POLICY["use_counts_days"] * DAY
        touched: dict[str, set[str]] = {name: set() for name in on_objects}
        for (where, operation, name), at in look.client.objects.items():
            if where == resource and operation in on_objects and look.now - at < since:
                touched[operation].add(name)
        wanted = {name for names in touched.values() for name in names}
        known = look.known(resource, [])
        if not on_objects or not all(touched.values()) or "" in wanted:
            continue
        now_reached = look.reached(resource, [one.reach for one in old], known) - {""}
        paths = _fewest(look, resource, wanted, now_reached)
        best = _smallest(place, "application", needed, place.opens(*(one.permission for one in old)))
        if paths is None or best is None or not best[1]:
            continue
        reach: Reach = ("only", tuple(paths))
        after = look.reached(resource, [reach], known)
        before_rows = [(one.permission, one.reach) for one in old]
        after_rows: list[tuple[str, Reach]] = [(name, reach) for name in best[1]]
        was, will = look.possible(resource, before_rows, known), look.possible(resource, after_rows, known)
        if any(not objects <= was.get(name, set()) for name, objects in will.items()):
            continue
        if _shared(place, will, known) >= _shared(place, was, known) or 2 * len(after) > len(now_reached):
            continue
        weight = sum(one.weight for name, one in place.operations.items() if one.on_object and name in was)
        saved = weight * (len(now_reached) - len(after)) / (len(known) - 1)
        yield resource, by_weight(round(saved))


def _fewest(look: Look, resource: str, wanted: set[str], within: set[str]) -> list[str] | None:
    place, best = look.resource(resource), None
    fitting = sorted(path for path in place.collections if look.inside(resource, path) <= within)
    for size in range(1, len(fitting) + 1):
        for paths in combinations(fitting, size):
            covered = {name for path in paths for name in look.inside(resource, path)}
            if wanted <= covered and (best is None or (len(covered), size) < best[:2]):
                best = (len(covered), size, list(paths))
    return best[2] if best is not None else None


def _shared(place: Resource, possible: dict[str, set[str]], known: set[str]) -> float:
    """Weight, each operation on objects by the share of the known ones."""
    return round(
        sum(
            place.operations[name].weight
            * (len(objects - {""}) / (len(known) - 1) if place.operations[name].on_object else 1)
            for name, objects in possible.items()
        ),
        2,
    )


def _acted_for(look: Look, resource: str, permission: str) -> set[str]:
    opened = look.resource(resource).opens(permission)
    since = POLICY["use_counts_days"] * DAY
    return {
        who
        for (where, operation, who), at in look.client.people.items()
        if where == resource and operation in opened and look.now - at < since
    }


@rule("consent-for-everyone")
def for_everyone(look: Look) -> Iterator[Said]:
    population = sum(one.live for one in look.estate.people.values())
    for key, rows in look.held("delegated").items():
        everyone = [one.begins for one in rows if not one.person]
        people = _acted_for(look, key[0], key[1])
        if everyone and look.watched(key[0], min(everyone)) and 1 <= len(people) <= 3 and population >= 3 * len(people):
            place = look.resource(key[0])
            yield subject(key), "medium" if place.weigh(place.opens(key[1])) >= 24 else "low"


@rule("consent-for-person-unused")
def for_person(look: Look) -> Iterator[Said]:
    for key, rows in look.held("delegated").items():
        people = _acted_for(look, key[0], key[1])
        if look.used(*key)[0] and not people:
            continue
        for person in {one.person for one in rows if one.person}:
            if look.watched(key[0], min(one.begins for one in rows if one.person == person)) and person not in people:
                yield f"{subject(key)}/{person}", "low"


@rule("left-behind")
def left_behind(look: Look) -> Iterator[Said]:
    for key, rows in look.held().items():
        there = look.all.there if key[0] == "jamb" else set(look.resource(key[0]).collections)
        gone = [one.reach for one in rows if one.reach is not None and not set(one.reach[1]) <= there]
        if gone:
            yield subject(key), "medium" if any(reach[0] == "all_but" for reach in gone) else "low"


# Registration


def _granted(look: Look) -> bool:
    return bool(look.grants())


@rule("no-owner")
def no_owner(look: Look) -> Iterator[Said]:
    if not look.client.owners:
        yield "", "high" if _granted(look) else "medium"


@rule("owner-gone")
def owner_gone(look: Look) -> Iterator[Said]:
    live = [look.estate.people[key].live for key, _ in look.client.owners]
    if not all(live):
        yield "", "medium" if any(live) else "high"


@rule("single-owner")
def single_owner(look: Look) -> Iterator[Said]:
    if len(look.owners()) == 1 and _granted(look):
        yield "", "low"


@rule("client-never-used")
def client_never_used(look: Look) -> Iterator[Said]:
    if look.live and look.now - look.client.registered >= 30 * DAY and look.seen is None:
        yield "", "medium" if _granted(look) else "low"


@rule("client-dormant")
def client_dormant(look: Look) -> Iterator[Said]:
    if look.live and look.seen is not None and look.now - look.seen >= 90 * DAY:
        yield "", "medium" if _granted(look) else "low"


@rule("no-purpose")
def no_purpose(look: Look) -> Iterator[Said]:
    if len(look.client.purpose.split()) < 2:
        yield "", "low"


@rule("disabled-with-credentials")
def disabled(look: Look) -> Iterator[Said]:
    if look.client.state == "disabled" and look.working:
        yield "", "medium"


def _address(text: str) -> tuple[str, str]:
    parts = urlsplit(text)
    return parts.scheme.lower(), (parts.hostname or "").lower()


@rule("redirect-plain-http")
def plain(look: Look) -> Iterator[Said]:
    if any(scheme == "http" and host not in LOOPBACK for scheme, host in map(_address, look.client.redirects)):
        yield "", "high" if look.live else "medium"


@rule("redirect-foreign-host")
def foreign(look: Look) -> Iterator[Said]:
    ours = [one for one in (look.estate.domain, look.client.publisher) if one]
    for scheme, host in map(_address, look.client.redirects):
        home = any(host == one or host.endswith("." + one) for one in ours)
        if look.estate.domain and scheme in {"http", "https"} and host not in LOOPBACK and not home:
            yield "", "medium"
            return


@rule("redirect-loopback")
def loopback(look: Look) -> Iterator[Said]:
    local = any(
        scheme in {"http", "https"} and host in LOOPBACK for scheme, host in map(_address, look.client.redirects)
    )
    if local and look.live and look.client.kind == "service":
        yield "", "low"


@rule("redirect-unused")
def redirect_unused(look: Look) -> Iterator[Said]:
    unused = set(look.client.redirects) - look.client.answered
    if unused and look.live and look.now - look.client.registered >= 30 * DAY:
        yield "", "low"


# Ways by which people sign in or stay signed in, of the kinds that are drawn.
_WAYS = {
    "native": {"authorization_code", "refresh_token", DEVICE_CODE},
    "device": {"refresh_token", DEVICE_CODE},
    "service": set[str](),
}


@rule("grant-type-unused")
def grant_type_unused(look: Look) -> Iterator[Said]:
    ways = _WAYS[look.client.kind]
    may = ways & set(look.client.grant_types) if look.client.grant_types else ways
    since = look.client.grant_types_since or look.client.registered
    some = look.client.got_by & {"authorization_code", "refresh_token", DEVICE_CODE}
    if look.live and some and may - look.client.got_by and look.now - since >= 30 * DAY:
        yield "", "low"


def _schemes(client: Client) -> set[str]:
    return {one.split(":")[0].lower() for one in client.redirects} - {"http", "https"}


@rule("scheme-shared")
def scheme_shared(look: Look) -> Iterator[Said]:
    mine = (look.client.registered, look.client.id)
    for scheme in _schemes(look.client):
        if any((other.registered, other.id) < mine for other in look.all.schemes[scheme]):
            yield scheme, "medium"


@rule("trial-over")
def trial_over(look: Look) -> Iterator[Said]:
    if look.live and look.client.trial is not None and look.client.trial <= look.now:
        yield "", "medium" if _granted(look) else "low"


@rule("publisher-unvouched")
def unvouched(look: Look) -> Iterator[Said]:
    one, home = look.client.publisher, look.estate.domain
    if one and one != home and not one.endswith("." + home) and one not in look.estate.vouched:
        yield "", "medium" if _granted(look) else "low"


LIKE = {"0": "o", "1": "l", "i": "l", "а": "a", "о": "o", "е": "e", "ο": "o"}


def _look(name: str) -> str:
    plain = [one for one in unicodedata.normalize("NFD", name).casefold() if not unicodedata.combining(one)]
    return "".join(LIKE.get(one, one) for one in plain if one.isalnum()).replace("rn", "m").replace("vv", "w")


@rule("name-confusable")
def confusable(look: Look) -> Iterator[Said]:
    mine = (look.client.registered, look.client.id)
    if any((other.registered, other.id) < mine for other in look.all.looks[_look(look.client.name)]):
        yield "", "medium"


def _steps(logo: bytes) -> list[bool]:
    return [logo[place] < logo[place + 1] for place in range(len(logo) - 1) if place % 9 < 8]


@rule("logo-confusable")
def same_logo(look: Look) -> Iterator[Said]:
    me, mine = look.client, _steps(look.client.logo)
    for other in look.all.pictured:
        theirs = _steps(other.logo)
        if me.publisher == other.publisher or not any(theirs) or not any(mine):
            continue
        different = sum(one != two for one, two in zip(mine, theirs, strict=True))
        if different <= 3 and (other.registered, other.id) < (me.registered, me.id):
            yield "", "medium"
            return


# Habit


@rule("network-new")
def new_network(look: Look) -> Iterator[Said]:
    networks = look.client.networks
    for name, first in networks if len(networks) <= 5 else ():
        if look.now - first <= 7 * DAY and look.old_before(first, min(at for _, at in networks)):
            yield name, "high" if look.weight_as_itself() >= POLICY["two_people_weight"] else "medium"


def _days(look: Look) -> dict[date, int]:
    found: dict[date, int] = {}
    for days in look.client.uses.values():
        for day, (calls, _) in days.items():
            found[day] = found.get(day, 0) + calls
    return found


@rule("use-rises")
def rises(look: Look) -> Iterator[Said]:
    days, today = _days(look), look.now.date()
    for back in range(1, 8):
        day = today - back * DAY
        before = [days[one] for one in (day - n * DAY for n in range(1, 29)) if days.get(one)]
        calls = days.get(day, 0)
        if len(before) >= 7 and calls >= 100 and calls >= 10 * max(before):
            yield "", "high" if look.weight_as_itself() >= POLICY["two_people_weight"] else "medium"
            return


@rule("client-silent")
def silent(look: Look) -> Iterator[Said]:
    days, today = _days(look), look.now.date()
    if not look.live or not days or look.seen is None:
        return
    last = max(days)
    ran = sum(bool(days.get(last - n * DAY)) for n in range(28))
    if 3 <= (today - last).days - 1 <= 14 and ran >= 20 and look.now - look.seen >= 3 * DAY:
        yield "", "medium"


def judge(estate: Estate, now: datetime) -> set[tuple[str, str, str, str]]:
    """Return rule, client, subject and severity of all that should be found."""
    every = All(estate, now)
    return {
        (name, client.id, what, severity)
        for client in estate.clients.values()
        if client.state != "removed"
        for name, find in RULES.items()
        for what, severity in find(Look(every, client))
    }
