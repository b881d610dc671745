"""The sealing key of this process, compared with the mark that the database's own key has left.

A key is made only for a database without directories. With another key every secret would be refused as wrong, and
the ledger would look forged: nothing is served with one.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import Engine
from sqlalchemy.exc import OperationalError
from sqlmodel import Session

from jamb.core.errors import Misuse
from jamb.service.settings import Settings
from jamb.store.base import sealing_marks
from jamb.store.base.sealing import Sealer

_START = "start with the JAMB_SEALING_KEY or JAMB_HOME that they were sealed with"
_ANOTHER = f"the sealing key is not the one that this database's records were sealed with; {_START}"


def sealer_for(settings: Settings, engine: Engine, now: datetime) -> Sealer:
    """Return the sealer of this process; make a key where the database has no directory yet.

    Raises:
        Misuse: the key is missing although there are directories, or it is not theirs.
        OperationalError: there is no key, and whether one may be made cannot be told: the database does not answer.
    """
    sealer = settings.sealer()
    if sealer is None:
        with Session(engine) as session:
            if sealing_marks.migrated(session) and sealing_marks.any_directory(session):
                raise Misuse(f"there is no sealing key in {settings.home}, but this database has directories; {_START}")
        sealer = settings.make_sealing_key()
    try:
        fault = sealing_fault(engine, sealer, now)
    except OperationalError:
        # The database is away: /ready looks again, as soon as it answers.
        return sealer
    if fault:
        raise Misuse(fault)
    return sealer


def sealing_fault(engine: Engine, sealer: Sealer, now: datetime) -> str:
    """Return what is wrong with the sealing key; empty: nothing is, or there is nothing yet that it has sealed."""
    with Session(engine) as session:
        if not sealing_marks.migrated(session):
            return ""
        kept = sealing_marks.kept_mark(session)
        if kept is None and (row := sealing_marks.any_sealed(session)) is not None:
            # From before there were marks: what was sealed tells.
            try:
                sealer.open(row.sealed, f"{row.directory_id}/{row.kid}")
            except Misuse:
                return _ANOTHER
            kept = sealing_marks.keep_mark(session, sealer.mark, now)
            session.commit()
        return _ANOTHER if kept not in (None, sealer.mark) else ""
