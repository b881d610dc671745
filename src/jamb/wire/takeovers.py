"""Who could take over what."""

from __future__ import annotations

from jamb.core.audit.takeover import NodeKind
from jamb.wire.base import Answered


class TakeoverNode(Answered):
    """`weight`: of all that it may do itself."""

    id: str
    kind: NodeKind
    name: str
    weight: float


class TakeoverStep(Answered):
    """`by`: why whoever comes before could act as `to`; `cut`: names the one thing whose end removes the step."""

    by: str
    cut: str
    to: TakeoverNode


class TakeoverWay(Answered):
    """A shortest way from a weak end to a strong one."""

    source: TakeoverNode
    steps: list[TakeoverStep]


class TakeoverCut(Answered):
    """A single change; `parts`: how many pairs of a weak and a strong end it parts."""

    cut: str
    words: str
    parts: int


class Takeovers(Answered):
    """The gravest ways. `pairs`: how many weak ends reach how many strong ones, all told."""

    weak_below: int
    strong_from: int
    pairs: int
    ways: list[TakeoverWay]
    cuts: list[TakeoverCut]
