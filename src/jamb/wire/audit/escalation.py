"""Escalation paths."""

from __future__ import annotations

from datetime import datetime

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
    """The gravest paths. `pairs`: how many weak ends reach how many strong ones, all told.

    `as_of`: when they were found, where records changed since and they are found anew within minutes; null: they are so
    now. `found`: false where they were never looked for, which is done within minutes.
    """

    weak_below: int
    strong_from: int
    pairs: int
    paths: list[EscalationPath]
    cuts: list[PathCut]
    as_of: datetime | None = None
    found: bool = True
