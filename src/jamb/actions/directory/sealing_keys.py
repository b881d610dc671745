"""Another sealing key in place of the one there is, while the service goes on."""

from __future__ import annotations

from datetime import datetime

from jamb.actions.base.all_directories import change_everywhere
from jamb.actions.base.backend import Backend
from jamb.core.errors import Conflict
from jamb.store.base import sealing_marks
from jamb.store.base.sealing import SealingKey

_SUBJECT = {"kind": "sealing key", "name": "the sealing key"}
_THEN = "Start every process with the later one, then end the other: `jamb-service keys end-sealing`."


def add_sealing_key(backend: Backend, other: SealingKey, reason: str, now: datetime) -> None:
    """Let another key open the database beside the present one. Raises `Conflict` where two do already."""
    with change_everywhere(backend, now) as units:
        for number, unit in enumerate(units):
            if number == 0:
                marks = sealing_marks.kept_marks(unit.session)
                if len(marks) > 1 or other.mark in marks:
                    known = "This key opens" if other.mark in marks else "Two sealing keys open"
                    raise Conflict(f"{known} the database already.", next_step=_THEN)
                sealing_marks.keep_another(unit.session, other.mark, backend.sealer.root_for(other), now)
            unit.enter("sealing-key.added", _SUBJECT, reason=reason)


def end_other_keys(backend: Backend, reason: str, now: datetime) -> int:
    """Let the present key alone open the database; return how many others did. Raises `Conflict` when none did."""
    ended = 0
    with change_everywhere(backend, now) as units:
        for unit in units:
            ended += sealing_marks.forget_others(unit.session, backend.sealer.mark)
            unit.enter("sealing-key.ended", _SUBJECT, reason=reason)
        if not ended:
            raise Conflict("No other sealing key opens this database.", next_step="Add one first, to rotate it.")
    return ended
