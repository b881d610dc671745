"""Tries that are counted, for all processes alike: only keyed digests of whom they are counted for are kept."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime
from hmac import digest

import sqlalchemy as sa
from sqlmodel import Session, SQLModel

from jamb.core.tries import Counted
from jamb.store.base.columns import blob, moment


class TriedRow(SQLModel, table=True):
    """How often something was tried in the time that ends `until`."""

    __tablename__ = "tried"
    __table_args__ = (sa.Index("tried_until", "until"),)

    key: bytes = blob(primary_key=True)
    times: int
    until: datetime = moment()


_COUNT = sa.text("""
    insert into tried as held (key, times, until) values (:key, 1, :ends)
    on conflict (key) do update set
        times = case when held.until <= :now then 1 else held.times + 1 end,
        until = case when held.until <= :now then excluded.until else held.until end
    returning times, until
""")
_TAKE_BACK = sa.text("update tried set times = greatest(times - 1, 0) where key = :key")


def count_try(session: Session, secret: bytes, counted: Sequence[Counted], now: datetime) -> datetime | None:
    """Count a try by each of these in turn; return until when no more are allowed, or None while they are.

    What comes behind one that allows no more is not counted: so a stranger's rows are bounded by the first.
    """
    for one in counted:
        sent = {"key": _key(secret, one), "ends": now + one.limit.within, "now": now}
        times, until = session.execute(_COUNT, sent).one()
        if times > one.limit.most:
            found: datetime = until
            return found
    return None


def take_back_try(session: Session, secret: bytes, counted: Sequence[Counted]) -> None:
    """Take a try off again: it was right."""
    for one in counted:
        session.execute(_TAKE_BACK, {"key": _key(secret, one)})


def _key(secret: bytes, one: Counted) -> bytes:
    return digest(secret, "\0".join((one.limit.name, *one.parts)).encode(), "sha256")
