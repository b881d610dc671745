"""All that the rules may know of one client, at one moment."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta

from jamb.core import own_api
from jamb.core.access import HeldGrant
from jamb.core.access.powers import Place
from jamb.core.audit.past import Done
from jamb.core.clients.attempts import Outcome
from jamb.core.clients.clients import ClientKind
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import CredentialState, state_of
from jamb.core.ladder import Rung, watched_since
from jamb.core.permissions import Catalogue
from jamb.core.reach import NO_COLLECTIONS, CollectionTree, Reach

_STANDING = frozenset({CredentialState.LIVE, CredentialState.EXPIRING})


@dataclass(frozen=True, slots=True)
class CredentialPicture:
    """`weak`: what its key is, where that is weaker than is made today; empty otherwise."""

    id: str
    kind: CredentialKind
    hint: str
    issued_at: datetime
    starts_at: datetime | None
    expires_at: datetime | None
    disabled_at: datetime | None
    withdrawn_at: datetime | None
    last_used_at: datetime | None
    weak: str = ""

    def state(self, now: datetime, notice: timedelta) -> CredentialState:
        return state_of(
            self.expires_at, self.withdrawn_at, now, notice, starts_at=self.starts_at, disabled_at=self.disabled_at
        )

    @property
    def works_since(self) -> datetime:
        return self.issued_at if self.starts_at is None else max(self.issued_at, self.starts_at)

    def works(self, now: datetime) -> bool:
        return self.state(now, timedelta()) in _STANDING

    @property
    def name(self) -> str:
        return f"{self.kind.words.capitalize()} {self.hint}"


@dataclass(frozen=True, slots=True)
class ResourcePicture:
    """One resource with the client's ladder on it.

    Attributes:
        tree: collections to which a grant could be bounded.
        objects: the objects that the client, as itself, was seen to touch while that counts, by operation; an empty
            name stands for those that lie in no collection.
        objects_fade_at: when the first of these stops to count.
        gone: collections (of Jamb's own API: clients) that a reach names and that are not there any more.
        people: whom it was seen to act for while that counts, by operation, each id with a name; None: nobody
            reports that. An empty operation stands for any.
        people_fade_at: when the first of these stops to count.
        begins_at: when the first grant that counts later begins to count.
        ended: what the client held there by roles that have ended.
        uncounted_until: calls there before this may not have been counted.
    """

    catalogue: Catalogue
    rungs: tuple[Rung, ...]
    tree: CollectionTree = NO_COLLECTIONS
    objects: Mapping[str, frozenset[str]] = field(default_factory=dict)
    objects_fade_at: datetime | None = None
    gone: frozenset[str] = frozenset()
    people: Mapping[str, Mapping[str, str]] | None = None
    people_fade_at: datetime | None = None
    begins_at: datetime | None = None
    ended: tuple[HeldGrant, ...] = ()
    uncounted_until: datetime | None = None

    def watched(self, since: datetime, now: datetime, observation: timedelta) -> bool:
        """Tell whether use of what is held since a moment was watched long enough to say what is not used."""
        return now - watched_since(since, self.uncounted_until) >= observation

    @property
    def bounds_objects(self) -> bool:
        return bool(self.tree.collections)

    def acted_for(self, permission: str) -> dict[str, str]:
        """Return for whom it was seen to do something that a permission opens, each id with a name."""
        opened = {*self.catalogue.opened_by(permission), ""}
        rows = [row for name, row in (self.people or {}).items() if name in opened]
        return {key: name for row in rows for key, name in row.items()}

    @property
    def measure(self) -> Place:
        """By which it is told what covers what."""
        return Place(self.catalogue, self.tree, own_collections=self.catalogue.name == own_api.NAME)

    def reaches(self, wider: Iterable[Reach], narrower: Iterable[Reach]) -> bool:
        """Tell whether some reaches together hold all objects that others do."""
        return self.measure.reaches(wider, narrower)


@dataclass(frozen=True, slots=True)
class OwnerPicture:
    """`live`: may still sign in. `full`: answers for everything about the client, and so can issue its credentials.

    Attributes:
        beyond: grave operations ("resource: operation") that the client may do as itself, and this person may not.
        beyond_weight: their weight.
        changes_at: when a role of this person begins or ends next.
    """

    name: str
    live: bool = True
    full: bool = True
    beyond: tuple[str, ...] = ()
    beyond_weight: int = 0
    changes_at: datetime | None = None
    id: str = ""


@dataclass(frozen=True, slots=True)
class RotationPicture:
    """A rotation that is open. `old_id`, `new_id`: the credentials that take part."""

    id: str
    old_hint: str
    new_hint: str
    overlap_ends_at: datetime
    old_id: str = ""
    new_id: str = ""


@dataclass(frozen=True, slots=True)
class DeadTries:
    """Token requests of late with a credential that has ended."""

    hint: str
    times: int
    last_at: datetime
    address: str


@dataclass(frozen=True, slots=True)
class Told:
    """Requests of late that ended in a way which bears on the audit (`attempts.TOLD`)."""

    outcome: Outcome
    times: int
    last_at: datetime
    address: str


@dataclass(frozen=True, slots=True)
class OtherPicture:
    """Another client whose credentials or owners this one can change, and which can itself give access.

    An empty `id`: it can do so to every client but some, and `name` says to which; `examples` names some of them.
    """

    id: str
    name: str
    by: str
    controls: tuple[str, ...]
    examples: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class NetworkPicture:
    """A network from which a client got tokens, and when it first did."""

    network: str
    first_at: datetime


@dataclass(frozen=True, slots=True)
class RedirectPicture:
    """A redirect URI: registered since when, and when a code was sent there last (to the day); None: never."""

    address: str
    since: datetime
    last_at: datetime | None = None


@dataclass(frozen=True, slots=True)
class ClientPicture:
    """`domain`: of the directory. `vouched`: somebody here answers for its publisher. `others`: see there.

    `past`: what was done to it, to the policy and to resources, as the ledger tells it, the oldest first.
    `names`: of the people for whom alone something is consented to, by id.
    `days`: its calls of late, by day. `alike`: clients registered before it whose names look like its own.
    `same_logo`: clients of other publishers, registered before it, whose logos do.
    `used_at`: when anything that it did was reported last. `around_changes_at`: when by time alone what others hold and
    bears on it changes. `same_scheme`: its private-use schemes that clients registered before it have, too,
    each with the name of the first of them. `grant_types`: those that it may use, and since when it is these.
    """

    id: str
    name: str
    live: bool
    owners: tuple[OwnerPicture, ...]
    credentials: tuple[CredentialPicture, ...]
    resources: tuple[ResourcePicture, ...]
    kind: ClientKind = ClientKind.SERVICE
    purpose: str = ""
    registered_at: datetime | None = None
    rotations: tuple[RotationPicture, ...] = ()
    dead_tries: tuple[DeadTries, ...] = ()
    told: tuple[Told, ...] = ()
    domain: str = ""
    redirect_uris: tuple[str, ...] = ()
    publisher: str = ""
    vouched: bool = True
    trial_ends_at: datetime | None = None
    others: tuple[OtherPicture, ...] = ()
    population: int = 0
    past: tuple[Done, ...] = ()
    used_at: datetime | None = None
    around_changes_at: datetime | None = None
    networks: tuple[NetworkPicture, ...] = ()
    days: Mapping[date, int] = field(default_factory=dict)
    alike: tuple[str, ...] = ()
    same_logo: tuple[str, ...] = ()
    names: Mapping[str, str] = field(default_factory=dict)
    redirects: tuple[RedirectPicture, ...] = ()
    same_scheme: Mapping[str, str] = field(default_factory=dict)
    grant_types: frozenset[str] = frozenset()
    grant_types_since: datetime | None = None
    grant_types_used: frozenset[str] = frozenset()

    @property
    def last_seen_at(self) -> datetime | None:
        """When it got a token last or, as guards report it, did something; None: never."""
        seen = (*(one.last_used_at for one in self.credentials), self.used_at)
        return max((one for one in seen if one is not None), default=None)
