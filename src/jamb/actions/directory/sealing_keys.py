"""Another sealing key in place of the one there is, while the service goes on."""

from __future__ import annotations

from datetime import datetime

from sqlmodel import Session

from jamb.actions.base.act import act_in
from jamb.actions.base.backend import Backend
from jamb.actions.directory.opening import OPERATOR
from jamb.core.errors import Conflict
from jamb.store.base import sealing_marks
from jamb.store.base.sealing import SealingKey
from jamb.store.directory import directories

_SUBJECT = {"kind": "sealing key", "name": "the sealing key"}


def add_sealing_key(backend: Backend, other: SealingKey, reason: str, now: datetime) -> None:
    """Let another key open the database beside the present one. Raises `Conflict` where two do already."""
    with Session(backend.engine) as session:
        marks = sealing_marks.kept_marks(session)
    if other.mark in marks:
        raise Conflict(
            "This key opens the database already.",
            next_step="Start every process with it, then end the other: `jamb-service keys end-sealing`.",
        )
    if len(marks) > 1:
        raise Conflict(
            "Two sealing keys open the database already.",
            next_step="Start every process with the later one, and end the other: `jamb-service keys end-sealing`.",
        )
    first, *others = _slugs(backend)
    with act_in(backend, first, now, OPERATOR).change() as unit:
        sealing_marks.keep_another(unit.session, other.mark, backend.sealer.root_for(other), now)
        unit.enter("sealing-key.added", _SUBJECT, reason=reason)
    _enter(backend, others, "sealing-key.added", reason, now)


def end_other_keys(backend: Backend, reason: str, now: datetime) -> int:
    """Let the present key alone open the database; return how many others did. Raises `Conflict` when none did."""
    first, *others = _slugs(backend)
    with act_in(backend, first, now, OPERATOR).change() as unit:
        ended = sealing_marks.forget_others(unit.session, backend.sealer.mark)
        if not ended:
            raise Conflict("No other sealing key opens this database.", next_step="Add one first, to rotate it.")
        unit.enter("sealing-key.ended", _SUBJECT, reason=reason)
    _enter(backend, others, "sealing-key.ended", reason, now)
    return ended


def _slugs(backend: Backend) -> list[str]:
    with Session(backend.engine) as session:
        found = [row.slug for row in directories.all_directories(session)]
    if not found:
        raise Conflict("There is no directory yet: nothing is sealed.", next_step="Start with the new key.")
    return found


def _enter(backend: Backend, slugs: list[str], action: str, reason: str, now: datetime) -> None:
    """Enter in the other directories' ledgers what was done for all."""
    for slug in slugs:
        with act_in(backend, slug, now, OPERATOR).change() as unit:
            unit.enter(action, _SUBJECT, reason=reason)
