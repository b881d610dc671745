"""Escalation paths."""

from __future__ import annotations

from jamb.core.audit.escalation import NodeKind
from jamb.wire.base.shapes import Answered


class PathNode(Answered):
    """`weight`: of all that it may do itself."""

    id: str
    kind: NodeKind
    name: str
    weight: float


class PathStep(Answered):
    """`by`: why whoever comes before could act as `to`; `cut`: names the one thing whose end removes the step."""

    by: str
    cut: str
    to: PathNode


class EscalationPath(Answered):
    """A shortest path from a weak end to a strong one."""

    source: PathNode
    steps: list[PathStep]


class PathCut(Answered):
    """A single change; `closes`: how many pairs of a weak and a strong end it parts."""

    cut: str
    words: str
    closes: int


class Escalation(Answered):
    """The gravest paths. `pairs`: how many weak ends reach how many strong ones, all told."""

    weak_below: int
    strong_from: int
    pairs: int
    paths: list[EscalationPath]
    cuts: list[PathCut]
