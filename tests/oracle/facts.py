"""What is known of an estate, as plain values: nothing here comes from the code under test."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from typing import Any

DEVICE_CODE = "urn:ietf:params:oauth:grant-type:device_code"
DAY = timedelta(days=1)
EFFECTS = {"read": 1, "write": 3, "control": 9}
CLASSES = {"open": 1, "internal": 2, "personal": 4, "restricted": 8}
POLICY = {
    "warn_days": 14,
    "observation_days": 14,
    "use_counts_days": 90,
    "secret_longest_days": 180,
    "key_longest_days": 730,
    "credentials_at_once": 4,
    "secret_heaviest_weight": 60,
    "two_people_weight": 24,
    "two_approvers_weight": 60,
}


@dataclass(frozen=True)
class Operation:
    name: str
    effect: str
    data: str
    on_object: bool = False

    @property
    def weight(self) -> int:
        return EFFECTS[self.effect] * CLASSES[self.data]


@dataclass
class Resource:
    """`permissions`: by name, what each unlocks and what it implies. `collections`: by path, their own objects.

    `kinds`: how each permission can be held. `for_both`: those that people and clients can be given.
    """

    name: str
    operations: dict[str, Operation]
    permissions: dict[str, tuple[set[str], set[str]]]
    collections: dict[str, set[str]] = field(default_factory=dict)
    kinds: dict[str, set[str]] = field(default_factory=dict)
    uncounted: datetime | None = None

    @property
    def for_both(self) -> set[str]:
        return {name for name, kinds in self.kinds.items() if len(kinds) == 2}

    def implied(self, permission: str) -> set[str]:
        """A permission with all that it implies, and those imply."""
        found, wanted = set(), [permission]
        while wanted:
            one = wanted.pop()
            if one not in found:
                found.add(one)
                wanted += self.permissions[one][1]
        return found

    def opens(self, *permissions: str) -> set[str]:
        return {name for one in permissions for inner in self.implied(one) for name in self.permissions[inner][0]}

    def weigh(self, operations: set[str]) -> int:
        return sum(self.operations[name].weight for name in operations)


# Everywhere is None; else ("only" or "all_but", collections or, at Jamb's own API, clients).
Reach = tuple[str, tuple[str, ...]] | None


@dataclass
class Grant:
    """A consent, or (with `role`) what a role gives. Days count back from now; later ones are below nothing."""

    resource: str
    permission: str
    begins: datetime
    ends: datetime | None = None
    kind: str = "application"
    reach: Reach = None
    person: str = ""
    role: str = ""


@dataclass
class Held:
    """A role that a person, a group or a client holds."""

    role: str
    begins: datetime
    ends: datetime | None = None
    reach: Reach = None


@dataclass
class Role:
    name: str
    resource: str
    permissions: list[str]


@dataclass
class Person:
    id: str
    name: str
    live: bool = True
    roles: list[Held] = field(default_factory=list)
    groups: list[str] = field(default_factory=list)


@dataclass
class Credential:
    id: str
    kind: str
    hint: str
    issued: datetime
    starts: datetime | None = None
    ends: datetime | None = None
    disabled: datetime | None = None
    withdrawn: datetime | None = None
    used: datetime | None = None
    weak: bool = False


@dataclass
class Entry:
    """One of the ledger. `by`: id of a person or client; `kind`: person, client or service."""

    action: str
    at: datetime
    by: str
    by_name: str
    kind: str = "person"
    subject: dict[str, str] = field(default_factory=dict)
    before: dict[str, Any] = field(default_factory=dict)
    after: dict[str, Any] = field(default_factory=dict)


@dataclass
class Client:
    id: str
    name: str
    registered: datetime
    purpose: str = "Carries records about"
    kind: str = "service"
    state: str = "live"
    owners: list[tuple[str, str]] = field(default_factory=list)
    credentials: list[Credential] = field(default_factory=list)
    asks: list[tuple[str, str, str, datetime]] = field(default_factory=list)
    grants: list[Grant] = field(default_factory=list)
    roles: list[Held] = field(default_factory=list)
    # By resource, operation and kind of access: calls by day, and when last on it.
    uses: dict[tuple[str, str, str], dict[date, tuple[int, datetime]]] = field(default_factory=dict)
    objects: dict[tuple[str, str, str], datetime] = field(default_factory=dict)
    people: dict[tuple[str, str, str], datetime] = field(default_factory=dict)
    rotations: list[tuple[str, str, str, datetime]] = field(default_factory=list)
    dead_tries: list[tuple[str, datetime]] = field(default_factory=list)
    # Requests that brought something a second time, too late, or without PKCE.
    replays: list[tuple[str, datetime]] = field(default_factory=list)
    redirects: list[str] = field(default_factory=list)
    # Those to which a code was sent.
    answered: set[str] = field(default_factory=set)
    # By which it may get tokens alone (none: all of its kind), since when, and by which it did.
    grant_types: list[str] = field(default_factory=list)
    grant_types_since: datetime | None = None
    got_by: set[str] = field(default_factory=set)
    publisher: str = ""
    trial: datetime | None = None
    networks: list[tuple[str, datetime]] = field(default_factory=list)
    # In grey, nine by eight pixels; empty: none.
    logo: bytes = b""
    ledger: list[Entry] = field(default_factory=list)


@dataclass
class Estate:
    domain: str
    resources: dict[str, Resource]
    roles: dict[str, Role]
    people: dict[str, Person]
    # By name: what the group holds, and in which groups it lies.
    groups: dict[str, tuple[list[Held], list[str]]]
    clients: dict[str, Client]
    vouched: set[str]
    # Of the policy and of resources.
    ledger: list[Entry] = field(default_factory=list)
