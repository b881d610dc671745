"""Escalation paths: a graph of people and clients, and the shortest escalation paths from weak ones to strong ones.

An arrow says that whoever is its source can act as its target, or give itself what the target may do: an owner can
issue a credential of the client; who may issue credentials of a client, or change its owners, likewise; who may assign
roles, change people or publish resources can give itself everything. A weak node that reaches a strong one is a way.

Breadth first, backwards from each strong node, so that every way found is a shortest one.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum

LONGEST = 6


class NodeKind(StrEnum):
    """place: the directory itself, whoever controls it may do anything. every: all clients of the directory at once."""

    PERSON = "person"
    CLIENT = "client"
    PLACE = "place"
    EVERY = "every"


@dataclass(frozen=True, slots=True)
class Node:
    """`weight`: of all that it may do itself."""

    id: str
    kind: NodeKind
    name: str
    weight: float = 0


@dataclass(frozen=True, slots=True)
class Arrow:
    """`by`: why, in words. `cut`: names the one thing whose end removes this arrow (and others that rest on it).

    An empty `cut`: nothing ends it.
    """

    source: str
    target: str
    by: str
    cut: str


@dataclass(frozen=True, slots=True)
class Way:
    """A shortest way: its arrows from the weak end to the strong one."""

    source: Node
    target: Node
    arrows: tuple[Arrow, ...]


@dataclass(frozen=True, slots=True)
class Cut:
    """A single change, and how many pairs of a weak and a strong end it parts."""

    cut: str
    words: str
    closes: int


@dataclass(frozen=True, slots=True)
class Escalation:
    """`pairs`: how many weak ends reach how many strong ones, all told.

    `paths` has the gravest of them, and one at least that each cut closes.
    """

    paths: tuple[Way, ...]
    pairs: int
    cuts: tuple[Cut, ...]


def escalation_paths(
    nodes: Iterable[Node],
    arrows: Iterable[Arrow],
    *,
    weak_below: float,
    strong_from: float,
    most: int = 50,
    most_cuts: int = 5,
) -> Escalation:
    """Return the shortest escalation paths from what weighs less than `weak_below` to what weighs `strong_from` or
    more.
    """
    by_id = {node.id: node for node in nodes}
    graph = _Graph(arrows)
    strong = sorted(
        (node for node in by_id.values() if node.weight >= strong_from and node.kind is not NodeKind.EVERY),
        key=lambda node: (-node.weight, node.name, node.id),
    )
    weak = {node.id for node in by_id.values() if node.weight < weak_below and node.kind in _ENDS}
    found: list[Way] = []
    pairs = 0
    counted: dict[str, int] = {}
    # A way that each cut closes, for where many graver ones leave none of its own among those listed.
    closing: dict[str, Way] = {}
    for target in strong:
        toward = graph.toward(target.id)
        sources = sorted(weak & toward.keys(), key=lambda key: (len(graph.follow(toward, key)), by_id[key].name, key))
        pairs += len(sources)
        for key in sources:
            way = Way(by_id[key], target, graph.follow(toward, key))
            for cut in {arrow.cut for arrow in way.arrows if arrow.cut}:
                counted[cut] = counted.get(cut, 0) + 1
                closing.setdefault(cut, way)
            if len(found) < most:
                found.append(way)
    best = sorted(counted, key=lambda cut: (-counted[cut], cut))[: 4 * most_cuts]
    parted = [(cut, pairs - _pairs(graph.without(cut), strong, weak)) for cut in best]
    parted = sorted((one for one in parted if one[1]), key=lambda one: (-one[1], one[0]))[:most_cuts]
    paths = sorted(
        dict.fromkeys([*found, *(closing[cut] for cut, _ in parted)]),
        key=lambda way: (-way.target.weight, len(way.arrows), way.source.name, way.target.name),
    )
    return Escalation(tuple(paths), pairs, tuple(Cut(cut, graph.words(cut, by_id), parts) for cut, parts in parted))


_ENDS = frozenset({NodeKind.PERSON, NodeKind.CLIENT})


class _Graph:
    def __init__(self, arrows: Iterable[Arrow]) -> None:
        self.arrows = sorted(arrows, key=lambda one: (one.source, one.target, one.cut))
        self.into: dict[str, list[Arrow]] = {}
        for arrow in self.arrows:
            self.into.setdefault(arrow.target, []).append(arrow)

    def words(self, cut: str, nodes: Mapping[str, Node]) -> str:
        """Say what a cut ends: whose it is, where it is one's alone, and what."""
        mine = [arrow for arrow in self.arrows if arrow.cut == cut]
        sources = sorted({nodes[arrow.source].name for arrow in mine})
        who = sources[0] if len(sources) == 1 else f"{len(sources)} of them"
        return f"{who}: {mine[0].by}"

    def without(self, cut: str) -> _Graph:
        return _Graph(arrow for arrow in self.arrows if arrow.cut != cut)

    def toward(self, target: str) -> dict[str, Arrow]:
        """Return for each node that reaches the target the first arrow of a shortest way there."""
        found: dict[str, Arrow] = {}
        depth = {target: 0}
        queue = deque([target])
        while queue:
            here = queue.popleft()
            if depth[here] >= LONGEST:
                continue
            for arrow in self.into.get(here, ()):
                if arrow.source not in depth:
                    depth[arrow.source], found[arrow.source] = depth[here] + 1, arrow
                    queue.append(arrow.source)
        return found

    def follow(self, toward: Mapping[str, Arrow], source: str) -> tuple[Arrow, ...]:
        steps = []
        while source in toward:
            steps.append(toward[source])
            source = toward[source].target
        return tuple(steps)


def _pairs(graph: _Graph, strong: Sequence[Node], weak: set[str]) -> int:
    return sum(len(weak & graph.toward(target.id).keys()) for target in strong)
