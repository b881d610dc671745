"""Who could take over what in a directory: read set-wise into a graph, which core searches."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.premises import Premises, find_directory
from jamb.actions.sweep import MOST_FOR_A_READER, sweep
from jamb.core import own_api
from jamb.core.audit.takeover import Arrow, Node, NodeKind, Takeovers, takeovers
from jamb.core.permissions import Catalogue, weigh
from jamb.core.reach import EVERYWHERE, Reach, ReachKind
from jamb.core.reach.details import reach_of
from jamb.store import people, resources, roles
from jamb.store import takeovers as rows
from jamb.store.around import TAKES_OVER

# Who may do one of these can give itself, or anybody, whatever the directory gives.
TAKES_ALL = frozenset(
    {"roles.assign", "people.add", "people.change", "groups.save", "resources.publish", "policy.change"}
)
_EVERY, _PLACE = "every", "place"


@dataclass(frozen=True, slots=True)
class TakeoverView:
    """What was found, with the nodes by id, and the weights that part weak from strong."""

    found: Takeovers
    nodes: dict[str, Node]
    weak_below: int
    strong_from: int


def read_takeovers(premises: Premises, slug: str, now: datetime, most: int = 50) -> TakeoverView:
    """Return the shortest ways from weak people and clients to strong ones; what changed is looked at first.

    Weak is below the weight from which two people consent, strong from the weight that takes two approvers.
    """
    sweep(premises, slug, now, MOST_FOR_A_READER)
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        places = resources.resources_of(session, directory.id)
        catalogues = resources.catalogues(session, places)
        own = next(catalogues[row.id] for row in places if row.name == own_api.NAME)
        clients = rows.live_clients(session, directory.id)
        held = rows.at_own_api(session, directory.id, now)
        living = [one for one in people.people_of(session, directory.id) if one.live]
        rights = roles.held_by_people(session, [one.id for one in living], now)
        named = rows.roles_by_person(session, directory.id, now)
        place = Node(_PLACE, NodeKind.PLACE, directory.name, 10 * directory.policy.two_approvers_weight)
        nodes = [place, Node(_EVERY, NodeKind.EVERY, "every client")]
        nodes += [Node(key, NodeKind.CLIENT, name, weight) for key, name, weight in clients]
        nodes += [
            Node(str(one.id), NodeKind.PERSON, one.name, _weight(rights.get(one.id, ()), catalogues)) for one in living
        ]
        arrows = [Arrow(_EVERY, key, "is one of them", "") for key, _, _ in clients]
        live = {key for key, _, _ in clients}
        arrows += [
            Arrow(str(person_id), client_id, f"owns {name}", f"owner/{client_id}/{person_id}")
            for client_id, name, person_id in rows.full_owners(session, directory.id)
        ]
        for person_id, role, group, permissions, reach, held_by in named:
            how = f"the role {role}" + (f" of the group {group}" if group else "")
            arrows += _powers(str(person_id), how, f"role/{held_by}", own, permissions, reach_of(reach), live)
        for client_id, permission, reach, cut, how in held:
            words = how or f"consent to {permission}"
            arrows += _powers(client_id, words, cut, own, [permission], reach_of(reach), live)
    wanted = directory.policy
    found = takeovers(
        nodes, (one for one in arrows if one.source != one.target),
        weak_below=wanted.two_people_weight, strong_from=wanted.two_approvers_weight, most=most,
    )  # fmt: skip
    by_id = {node.id: node for node in nodes}
    return TakeoverView(found, by_id, wanted.two_people_weight, wanted.two_approvers_weight)


def _powers(
    source: str,
    how: str,
    cut: str,
    own: Catalogue,
    permissions: Iterable[str],
    reach: Reach,
    live: set[str],
) -> Iterator[Arrow]:
    """Yield what one role or consent at Jamb's own API lets its holder take over."""
    opened = own.opened_by_all(permissions)
    everything = sorted(opened & TAKES_ALL)
    if everything and reach == EVERYWHERE:
        yield Arrow(source, _PLACE, f"{how} ({own.operations[everything[0]].title.lower()})", cut)
    over = sorted(opened & TAKES_OVER)
    if not over:
        return
    words = f"{how} ({own.operations[over[0]].title.lower()})"
    if reach.kind is ReachKind.ONLY:
        for client_id in sorted(reach.collections & live):
            yield Arrow(source, client_id, words, cut)
    else:
        yield Arrow(source, _EVERY, words, cut)


def _weight(held: Iterable[tuple[UUID, frozenset[str], datetime | None]], catalogues: dict[UUID, Catalogue]) -> float:
    by_resource: dict[UUID, set[str]] = {}
    for resource_id, permissions, _ in held:
        by_resource.setdefault(resource_id, set()).update(permissions)
    return sum(weigh(catalogues[key], catalogues[key].opened_by_all(names)) for key, names in by_resource.items())
