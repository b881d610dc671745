"""Do what is to be done for a directory in a round: each duty by itself, so that one that fails holds up no other."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from datetime import datetime

from sqlalchemy.exc import SQLAlchemyError
from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.backend import Backend
from jamb.core.directory.duties import Duty
from jamb.core.errors import JambError
from jamb.store.base import duties
from jamb.store.base.work import observation
from jamb.store.connections.outages import outage_of
from jamb.store.directory.directories import id_of
from jamb.wire.notices.notices import FailingDuty


def list_failing(act: Act) -> list[FailingDuty]:
    """Return what the service could not do for a directory, and when it tries again."""
    with act.read() as session:
        return [
            FailingDuty(
                duty=Duty(row.duty), failures=row.failures, since=row.since, error=row.error, again_at=row.again_at
            )
            for row in duties.failing(session, act.directory.id)
        ]


def do_all(
    backend: Backend, slug: str, work: Mapping[Duty, Callable[[], object]], now: datetime
) -> dict[Duty, BaseException]:
    """Do these for a directory, but those that failed lately; return what failed now.

    Raises:
        SQLAlchemyError: the database is away: that is no fault of the duty, and is noted nowhere.
    """
    with Session(backend.engine) as session:
        # Not with its policy: one that cannot be read is a duty's failure too.
        directory_id = id_of(session, slug)
        if directory_id is None:
            return {}
        put_aside = {row.duty: row.again_at for row in duties.failing(session, directory_id)}
    failed: dict[Duty, BaseException] = {}
    for duty, do in work.items():
        if duty.value in put_aside and put_aside[duty.value] > now:
            continue
        try:
            do()
        except Exception as error:
            if isinstance(error, SQLAlchemyError) and outage_of(error) is not None:
                raise
            failed[duty] = error
            with observation(backend.engine) as session:
                duties.note_failure(session, directory_id, duty, said_of(error), now)
        else:
            if duty.value in put_aside:
                with observation(backend.engine) as session:
                    duties.note_done(session, directory_id, duty)
    return failed


def said_of(error: BaseException) -> str:
    """Return what may be shown of an error: ours in its words, another by its kind (its words may hold values)."""
    if isinstance(error, JambError):
        return error.message
    constraint = getattr(getattr(getattr(error, "orig", None), "diag", None), "constraint_name", None)
    return f"{type(error).__name__}{f' of {constraint}' if constraint else ''}; the service's log has more"
