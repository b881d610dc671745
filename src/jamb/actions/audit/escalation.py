"""Who can come to act as whom in a directory: read set-wise into a graph, which core searches.

An arrow is drawn where the judgement of `actions.judging` would let its source do it alone: what takes another person's
yes is no way for one.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from datetime import datetime
from math import inf
from uuid import UUID

from sqlmodel import Session

from jamb.actions.judgement.powers import Bench
from jamb.core import own_api
from jamb.core.access import Holding
from jamb.core.access.powers import NO_POWERS, Numbered, Powers, Weigher
from jamb.core.audit.escalation import Arrow, Node, NodeKind
from jamb.core.audit.surroundings import TAKES_OVER
from jamb.core.consent.agreements import agreeing
from jamb.core.directory.directories import Directory
from jamb.core.permissions import Catalogue, weigh
from jamb.core.reach import EVERYWHERE, Reach, ReachKind
from jamb.core.reach.details import reach_of
from jamb.store.audit import escalation as rows
from jamb.store.credentials import credentials
from jamb.store.directory import people, roles
from jamb.store.resources import resources

# Who may do one of these can give itself, or anybody, whatever the directory gives, as far as one person may.
TAKES_ALL = frozenset(
    {"roles.assign", "people.add", "people.change", "groups.save", "resources.publish", "policy.change"}
)
# How many clients that weigh something are judged one by one; of more, by their weight alone.
MOST_JUDGED = 2000
_EVERY, _PLACE = "every", "place"


def graph_of(
    session: Session, directory: Directory, now: datetime, *, below: float = inf
) -> tuple[list[Node], list[Arrow]]:
    """Return everybody of a directory, and who can make themselves able to act as whom, alone.

    Args:
        below: of people who weigh as much or more no arrows are drawn: nobody becomes a person by an arrow, so that
            those who are not weak stand on no path, and what they may do need not be judged.
    """
    places = resources.resources_of(session, directory.id)
    catalogues = resources.catalogues(session, places)
    own = next(catalogues[row.id] for row in places if row.name == own_api.NAME)
    clients = rows.live_clients(session, directory.id)
    held = rows.at_own_api(session, directory.id, now)
    living = [person for person in people.people_of(session, directory.id) if person.active]
    rights = roles.held_by_people(session, [one.id for one in living], now)
    nodes = [Node(_PLACE, NodeKind.PLACE, directory.name, 10 * directory.policy.two_approvers_weight)]
    nodes += [Node(_EVERY, NodeKind.EVERY, "every light client")]
    nodes += [Node(key, NodeKind.CLIENT, name, weight) for key, name, weight in clients]
    persons = [
        Node(str(one.id), NodeKind.PERSON, one.name, _weight(rights.get(one.id, ()), catalogues, now)) for one in living
    ]
    nodes += persons
    weak = {node.id for node in persons if node.weight < below}
    judge = _Judge(Bench(session, directory, now), directory, own)
    judge.know(clients, {client_id for client_id, *_ in held})
    judge.bench.know_clients({client_id for client_id, *_ in held})
    arrows = [Arrow(_EVERY, key, "is one of them", "") for key, _, _ in clients if key not in judge.heavy]
    arrows += [
        Arrow(str(person_id), client_id, f"owns {name}", f"owner/{client_id}/{person_id}")
        for client_id, name, person_id in rows.full_owners(session, directory.id)
        if str(person_id) in weak
    ]
    names = {key: name for key, name, _ in clients}
    known = weak | names.keys()
    arrows += [
        Arrow(seen_by, client_id, f"knows what {names[client_id]} proves itself with", f"credential/{key}")
        for client_id, key, seen_by in credentials.seen(session, directory.id, now)
        if seen_by in known and client_id in names
    ]
    for person_id, role, group, permissions, reach, held_by in rows.roles_by_person(session, directory.id, now):
        if str(person_id) not in weak:
            continue
        how = f"the role {role}" + (f" of the group {group}" if group else "")
        arrows += judge.powers(str(person_id), how, f"role/{held_by}", permissions, reach_of(reach), names)
    for client_id, permission, reach, cut, how in held:
        if client_id in names:
            words = how or f"consent to {permission}"
            arrows += judge.powers(client_id, words, cut, [permission], reach_of(reach), names)
    return nodes, arrows


@dataclass
class _Judge:
    """Tells what one may do alone. `heavy`: by id, what clients may do that are not for one person to act as."""

    bench: Bench
    directory: Directory
    own: Catalogue
    heavy: dict[str, Powers | None] = field(default_factory=dict)
    weigher: Weigher = field(init=False)
    # By source: whether it may come to act as a client that may do what this is, numbered.
    known: dict[tuple[str, Numbered], bool] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.weigher = Weigher(self.bench.places)

    def know(self, clients: Iterable[tuple[str, str, int]], at_own_api: set[str]) -> None:
        """Weigh the clients: what weighs little by the audit, and does nothing here, is light."""
        policy = self.directory.policy
        candidates = [key for key, _, weight in clients if key in at_own_api or agreeing(weight, policy)]
        powers = self.bench.powers_of_clients(candidates[:MOST_JUDGED], until=self.bench.now)
        for key in candidates:
            power = powers.get(key)
            if power is None or self._too_much(power, NO_POWERS):
                self.heavy[key] = power

    def alone(self, source: str, client_id: str) -> bool:
        """Tell whether the source may come to act as the client with nobody else's yes."""
        if client_id not in self.heavy:
            return True
        power = self.heavy[client_id]
        if power is None:
            return False
        key = source, self.weigher.numbered(power)
        if key not in self.known:
            self.known[key] = not self._too_much(power, self.bench.power_until(source, None))
        return self.known[key]

    def _too_much(self, wanted: Powers, have: Powers) -> bool:
        """Tell whether one set of powers goes further beyond another than one person alone may."""
        return bool(agreeing(self.weigher.beyond(wanted, have), self.directory.policy))

    def everything(self, source: str) -> bool:
        """Tell whether the source may give itself all that Jamb's own API gives with nobody else's yes."""
        every = frozenset(Holding(name) for name in self.own.permissions)
        return not self._too_much({self.bench.own_id: every}, self.bench.power_until(source, None))

    def powers(
        self, source: str, how: str, cut: str, permissions: Iterable[str], reach: Reach, live: Iterable[str]
    ) -> Iterator[Arrow]:
        """Yield what one role or consent at Jamb's own API lets its holder take over, alone."""
        opened = self.own.opened_by_all(permissions)
        everything = sorted(opened & TAKES_ALL)
        if everything and reach == EVERYWHERE and self.everything(source):
            yield Arrow(source, _PLACE, f"{how} ({self.own.operations[everything[0]].title.lower()})", cut)
        over = sorted(opened & TAKES_OVER)
        if not over:
            return
        words = f"{how} ({self.own.operations[over[0]].title.lower()})"
        if reach.kind is ReachKind.ONLY:
            targets = set(reach.collections & set(live))
        else:
            yield Arrow(source, _EVERY, words, cut)
            targets = self.heavy.keys() - reach.collections
        for client_id in sorted(targets):
            if self.alone(source, client_id):
                yield Arrow(source, client_id, words, cut)


def _weight(held: Iterable[roles.RoleHeld], catalogues: dict[UUID, Catalogue], now: datetime) -> float:
    by_resource: dict[UUID, set[str]] = {}
    for one in held:
        if one.in_force(now):
            by_resource.setdefault(one.resource_id, set()).update(one.permissions)
    return sum(weigh(catalogues[key], catalogues[key].opened_by_all(names)) for key, names in by_resource.items())
