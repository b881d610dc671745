"""Reach and collections."""

from __future__ import annotations

from typing import Annotated

from pydantic import Field

from jamb.core import reach as core
from jamb.core.access import CheckName
from jamb.core.permissions import Effect
from jamb.core.reach import ReachKind
from jamb.core.reach.collections import RULE_LONGEST
from jamb.wire.base.shapes import Answered, Moment, Names, Sent, Versioned
from jamb.wire.base.text import CollectionPath

Path = CollectionPath


class ReachSent(Sent):
    """Where something counts: everywhere, only these collections, or all but these."""

    kind: ReachKind = ReachKind.EVERYWHERE
    collections: Annotated[list[Path], Field(max_length=1000)] = Field(default_factory=list)

    def value(self) -> core.Reach:
        return core.Reach.of(self.kind, self.collections)


class Reach(Answered):
    """`words` says it in a sentence's part: "only north, fuel"."""

    kind: ReachKind
    collections: Names
    words: str


class Collection(Answered):
    """A collection with its own objects; `size` counts those of the collections below it too.

    `rule`: which objects lie in it, in words, where those change by a rule.
    """

    path: str
    title: str
    objects: list[str]
    size: int
    rule: str = ""


class Collections(Versioned):
    """The collections of a resource, by path; `objects` counts all that lie in any.

    `waits`: what of a change waits for an approver, in words; empty: nothing.
    """

    edited = frozenset({"collections"})

    resource: str
    object_name: str
    objects: int
    collections: list[Collection]
    waits: str = ""


class CollectionSent(Sent):
    """`rule`: which objects lie in it, in words, where those change by a rule: consents to it are consents to that."""

    path: Path
    title: Annotated[str, Field(max_length=200)] = ""
    objects: Annotated[list[Annotated[str, Field(max_length=200)]], Field(max_length=100_000)] = Field(
        default_factory=list
    )
    rule: Annotated[str, Field(max_length=RULE_LONGEST)] = ""


class CollectionsSent(Sent):
    """All collections of a resource: these take the place of those it has."""

    collections: Annotated[list[CollectionSent], Field(max_length=10_000)]


class ReachLine(Answered):
    """One collection: how many of its objects the operation can touch. `verdict` is yes, no or in part."""

    path: str
    title: str
    objects: int
    touched: int
    verdict: str


class ReachOperation(Answered):
    """`lines` is null for an operation that names no object. `uncollected`: also what lies in no collection."""

    operation: str
    title: str
    effect: Effect
    possible: bool
    uncollected: bool
    why: str
    lines: list[ReachLine] | None


class ReachDecision(Answered):
    """The decision on one operation for the object asked about, with the check that decided it."""

    operation: str
    title: str
    allowed: bool
    check: CheckName
    why: str


class ReachSheet(Answered):
    """What a client can and cannot touch at one resource, acting as itself. `decisions` only with an object."""

    client_id: str
    client_name: str
    live: bool
    resource: str
    title: str
    object_name: str
    at: Moment
    object: str | None
    object_in: list[str]
    operations: list[ReachOperation]
    decisions: list[ReachDecision]


def collections_answer(resource: str, object_name: str, tree: core.CollectionTree, waits: str = "") -> Collections:
    return Collections(
        waits=waits,
        resource=resource,
        object_name=object_name,
        objects=len(tree.everything),
        collections=[
            Collection(
                path=path, title=one.title, objects=sorted(one.objects), size=len(tree.members(path)), rule=one.rule
            )
            for path, one in tree.collections.items()
        ],
    )
