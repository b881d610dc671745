"""The sealing key of this process, compared with the marks of those that open its database.

A key is made only for a database without directories. With another key every secret would be refused as wrong, and
the ledger would look forged: nothing is served with one.
"""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import Engine
from sqlmodel import Session

from jamb.core.errors import Misuse
from jamb.service.config.settings import Settings
from jamb.store.base import sealing_marks
from jamb.store.base.sealing import Sealer, SealingKey, fresh_key

_START = "start with the JAMB_SEALING_KEY or JAMB_HOME that they were sealed with"
_ANOTHER = f"the sealing key is not the one that this database's records were sealed with; {_START}"


def sealer_for(settings: Settings, engine: Engine, now: datetime) -> Sealer:
    """Return the sealer of this process; make key and root where the database has no directory yet.

    Raises:
        Misuse: the key is missing although there are directories, or it is not theirs.
        OperationalError: the database does not answer.
    """
    key = settings.kept_sealing_key()
    with Session(engine) as session:
        if not sealing_marks.migrated(session):
            raise Misuse(
                "the database was never migrated: run `jamb-service migrate`, or `jamb-service directories open`"
            )
        if key is None:
            if sealing_marks.any_directory(session):
                raise Misuse(f"there is no sealing key in {settings.home}, but this database has directories; {_START}")
            key = settings.make_sealing_key()
        return _opened_by(session, key, now)


def sealing_fault(engine: Engine, mark: bytes) -> str:
    """Return what is wrong with a key, by its mark; empty: it opens this database, or nothing is sealed here yet."""
    with Session(engine) as session:
        kept = sealing_marks.kept_marks(session)
    return "" if not kept or mark in kept else _ANOTHER


def _opened_by(session: Session, key: SealingKey, now: datetime) -> Sealer:
    kept = sealing_marks.kept_marks(session)
    if not kept:
        sealed = sealing_marks.any_sealed(session)
        if sealed is None:
            sealing_marks.keep_first(session, key.mark, key.seal_root(fresh_key()), now)
        else:
            # From before there were marks: what was sealed tells, and the key is its own root.
            try:
                Sealer(key.key, key.mark).open(sealed.sealed, f"{sealed.directory_id}/{sealed.kid}")
            except Misuse as error:
                raise Misuse(_ANOTHER) from error
            sealing_marks.keep_first(session, key.mark, None, now)
        session.commit()
        kept = sealing_marks.kept_marks(session)
    if key.mark not in kept:
        raise Misuse(_ANOTHER)
    return Sealer(key.open_root(kept[key.mark]), key.mark)
