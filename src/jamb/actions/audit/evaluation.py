"""Keep the findings of a directory current: look again at what changed or has come due, and at nothing else.

Any number of processes may do so at once: what one has taken the other passes over, and one that is killed leaves
everything as it was, for its transaction never ended.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory
from jamb.core.audit.due_times import next_change
from jamb.core.audit.evaluate import evaluate
from jamb.core.audit.excess import excess_at, granted_weight
from jamb.core.audit.picture import ClientPicture
from jamb.core.clients.clients import ClientState
from jamb.core.directory.directories import Directory
from jamb.core.directory.policy import DirectoryPolicy
from jamb.core.ladder import count
from jamb.store.audit import client_facts as pictures
from jamb.store.audit import excess, findings
from jamb.store.audit.findings import LookedAt
from jamb.store.base.work import observation

AT_ONCE = 500
# What whoever asks for findings waits for; the rest is left to the service's own rounds.
MOST_FOR_A_READER = 2_000
# Clocks of two processes may be so far apart.
CLOCKS_APART = timedelta(minutes=2)


@dataclass(frozen=True, slots=True)
class Swept:
    """How many clients were looked at, and how many are left."""

    looked_at: int
    left: int


def _utc_now() -> datetime:
    return datetime.now(UTC)


def sweep(
    backend: Backend,
    slug: str,
    now: datetime,
    most: int | None = None,
    clock: Callable[[], datetime] = _utc_now,
) -> Swept:
    """Look at what changed or has come due, in steps that are each a transaction.

    Args:
        most: clients; None: all. A reader says so: what another is looking at just now is then waited for, too,
            or they would be told what was before.
    """
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
    looked_at = 0
    while most is None or looked_at < most:
        taken = _step(backend, directory, now, clock)
        looked_at += taken
        if not taken and (most is None or not _others_left_some(backend, directory)):
            break
    with Session(backend.engine) as session:
        return Swept(looked_at, findings.waiting(session, directory.id, now))


def look_first(act: Act) -> Swept:
    """Look at what changed or has come due before somebody reads: as much as a reader waits for.

    What another is looking at just now still stands as changed until they are done.
    """
    with Session(act.backend.engine) as session:
        if not findings.waiting(session, act.directory.id, act.now):
            return Swept(0, 0)
    return sweep(act.backend, act.slug, act.now, MOST_FOR_A_READER)


def _others_left_some(backend: Backend, directory: Directory) -> bool:
    with Session(backend.engine) as session:
        return findings.wait_for_others(session, directory.id)


def look_at_all(backend: Backend, slug: str) -> None:
    """Have every client looked at anew at the next sweep, as after a change of the rules."""
    with observation(backend.engine) as session:
        directory = find_directory(session, slug)
        findings.note_all(session, directory.id)


def look_again_at_the_future(backend: Backend, slug: str, now: datetime) -> None:
    """Have what was looked at by a clock that was ahead looked at anew at the next sweep."""
    with observation(backend.engine) as session:
        findings.note_looked_at_after(session, find_directory(session, slug).id, now + CLOCKS_APART)


def _step(backend: Backend, directory: Directory, now: datetime, clock: Callable[[], datetime]) -> int:
    with observation(backend.engine) as session:
        changed = findings.take_changed(session, directory.id, AT_ONCE)
        # What a note tells of was done before now, however long ago this round began.
        now = max(now, clock())
        come_due = findings.due(session, directory.id, now, AT_ONCE - len(changed))
        taken = sorted({*changed, *come_due})
        if not taken:
            return 0
        findings.lock_states(session, directory.id, taken, now)
        now = max(now, clock())
        # Another may have looked at what came due while we waited for it.
        left = set(findings.due(session, directory.id, now, AT_ONCE, come_due))
        look_at(session, directory, sorted({*changed, *left}), now)
        return len(taken)


def look_at(session: Session, directory: Directory, client_ids: Sequence[str], now: datetime) -> None:
    """Evaluate some clients, whose states are locked, and keep what was found."""
    loaded = pictures.load(session, directory.id, directory.policy, now, client_ids, daily=False, lean=True)
    # Parts of Jamb itself are looked after by whoever makes Jamb; what was removed holds nothing.
    seen = [one for one in loaded if not one.row.builtin and one.row.state != ClientState.REMOVED]
    found = evaluate((one.picture for one in seen), directory.policy, now)
    findings.keep_findings(session, directory.id, client_ids, found, now)
    weights = [
        (one.row.id, key, excess_at(place, now, directory.policy.observation))
        for one in seen
        for key, place in zip(one.resource_ids, one.picture.resources, strict=True)
    ]
    excess.keep(session, directory.id, client_ids, weights, now.date())
    states = {one.row.id: _looked_at(one.picture, directory.policy, now) for one in seen}
    findings.keep_states(session, (states.get(key, LookedAt(key)) for key in client_ids), now)


def _looked_at(picture: ClientPicture, policy: DirectoryPolicy, now: datetime) -> LookedAt:
    rungs = count(rung for place in picture.resources for rung in place.rungs)
    return LookedAt(picture.id, next_change(picture, policy, now), granted_weight(picture.resources), rungs)
