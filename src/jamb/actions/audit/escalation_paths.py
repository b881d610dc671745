"""Escalation paths of a directory: found when they are read, or by the rounds of the service where that takes long.

What was found is kept until a record changes, or something begins or ends. Of a small directory it is then found anew
for whoever reads it; of a large one readers are told what was found before, and when, until a round found it anew.
"""

from __future__ import annotations

from contextlib import suppress
from datetime import timedelta
from time import thread_time

from pydantic import ValidationError
from sqlalchemy.exc import SQLAlchemyError

from jamb.actions.audit.escalation import graph_of
from jamb.actions.audit.evaluation import look_first
from jamb.actions.base.act import Act
from jamb.core.audit.escalation import Arrow, Node, escalation_paths
from jamb.core.directory.directories import Directory
from jamb.core.errors import OutcomeUnknown
from jamb.store.audit import kept_escalation
from jamb.store.audit.escalation import more_clients
from jamb.store.audit.kept_escalation import Kept
from jamb.store.base.work import observation
from jamb.store.directory import ledger
from jamb.wire.audit import escalation as wire

# As many as are shown unless another number is asked for.
MOST_KEPT = 50
# Nobody waits longer than this for paths to be found: where it took longer, or of so many clients, a round does it.
# Of processor time: how busy the machine was says nothing of the directory.
LONGEST_WAITED = timedelta(seconds=1)
MOST_AT_ONCE = 15_000
# A round finds them where somebody read them this lately, and rests so many times as long as it took.
ASKED_LATELY = timedelta(days=1)
RESTS = 10


def read_escalation_paths(act: Act, most: int = MOST_KEPT) -> wire.Escalation:
    """Return the shortest escalation paths from weak people and clients to strong ones; what changed is looked at
    first.

    Weak is below the weight from which two people consent, strong from the weight that takes two approvers.

    Args:
        most: so many, and one for each cut; of a large directory no more than are kept.
    """
    left = look_first(act).left
    with act.read() as session:
        kept = kept_escalation.find(session, act.directory.id, act.now)
        large = more_clients(session, act.directory.id, MOST_AT_ONCE) if kept is None else _takes_long(kept)
    before = _read(kept)
    if before is not None and kept is not None and kept.current and most <= MOST_KEPT:
        return _at_most(before, most)
    if large:
        _note_asked(act)
        if before is None or kept is None:
            return _nothing_yet(act.directory)
        return _at_most(before, most).model_copy(update={} if kept.current else {"as_of": kept.made_at})
    # Of a reader at a standby, or one who would not wait for all that changed, it is not kept: it may be of before.
    keep = most <= MOST_KEPT and not left and act.as_of == act.now
    return _at_most(_found(act, max(most, MOST_KEPT), keep=keep), most)


def keep_escalation_paths(act: Act) -> bool:
    """Find the paths of a large directory anew, where they can have changed and somebody reads them; tell whether."""
    with act.read() as session:
        kept = kept_escalation.find(session, act.directory.id, act.now)
    if kept is None or kept.asked_at is None or act.now - kept.asked_at > ASKED_LATELY:
        return False
    rested = kept.made_at is None or act.now - kept.made_at >= RESTS * kept.took
    if not _takes_long(kept) or not rested or (kept.current and _read(kept) is not None):
        return False
    _found(act, MOST_KEPT, keep=True)
    return True


def _takes_long(kept: Kept) -> bool:
    return kept.made_at is None or kept.took > LONGEST_WAITED


def _note_asked(act: Act) -> None:
    # Whoever asked is answered, even where the database takes no changes at present.
    with suppress(SQLAlchemyError, OutcomeUnknown), observation(act.backend.engine) as session:
        kept_escalation.note_asked(session, act.directory.id, act.now)


def _read(kept: Kept | None) -> wire.Escalation | None:
    if kept is None or kept.found is None:
        return None
    try:
        return wire.Escalation.model_validate(kept.found)
    except ValidationError:
        # As another version of the service kept it, it may lack something.
        return None


def _at_most(found: wire.Escalation, most: int) -> wire.Escalation:
    """Return the first of these paths, and of each cut one that it closes."""
    shown = found.paths[:most]
    for cut in found.cuts:
        closed = [path for path in found.paths if any(step.cut == cut.cut for step in path.steps)]
        if not any(path in shown for path in closed):
            shown += closed[:1]
    return found.model_copy(update={"paths": shown})


def _found(act: Act, most: int, *, keep: bool) -> wire.Escalation:
    began = thread_time()
    with act.read() as session:
        head = ledger.head(session, act.directory.id)
        until = kept_escalation.until(session, act.directory.id, act.now)
        nodes, arrows = graph_of(session, act.directory, act.now, below=act.directory.policy.two_people_weight)
    found = _searched(act.directory, nodes, arrows, most)
    took = timedelta(seconds=thread_time() - began)
    if keep and head is not None:
        with suppress(SQLAlchemyError, OutcomeUnknown), observation(act.backend.engine) as session:
            document = found.model_dump(mode="json")
            kept_escalation.keep(session, act.directory.id, Kept(document, act.now, took), head.sequence, until)
    return found


def _searched(directory: Directory, nodes: list[Node], arrows: list[Arrow], most: int) -> wire.Escalation:
    wanted = directory.policy
    found = escalation_paths(
        nodes,
        (arrow for arrow in arrows if arrow.source != arrow.target),
        weak_below=wanted.two_people_weight,
        strong_from=wanted.two_approvers_weight,
        most=most,
    )
    by_id = {node.id: _node(node) for node in nodes}
    return wire.Escalation(
        weak_below=wanted.two_people_weight,
        strong_from=wanted.two_approvers_weight,
        pairs=found.pairs,
        paths=[
            wire.EscalationPath(
                source=_node(path.source),
                steps=[wire.PathStep(by=arrow.by, cut=arrow.cut, to=by_id[arrow.target]) for arrow in path.arrows],
            )
            for path in found.paths
        ],
        cuts=[wire.PathCut(cut=one.cut, words=one.words, closes=one.closes) for one in found.cuts],
    )


def _nothing_yet(directory: Directory) -> wire.Escalation:
    policy = directory.policy
    return wire.Escalation(
        weak_below=policy.two_people_weight,
        strong_from=policy.two_approvers_weight,
        pairs=0,
        paths=[],
        cuts=[],
        found=False,
    )


def _node(node: Node) -> wire.PathNode:
    return wire.PathNode(id=node.id, kind=node.kind, name=node.name, weight=node.weight)
