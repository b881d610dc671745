"""Reads at a streaming standby, with a bound on how old what they see is.

The primary has one row with a number that every process raises each second; a process remembers when it did. What a
standby shows is at least as new as the last of our own numbers that it has, measured by our own clock alone.
"""

from __future__ import annotations

import time
from collections import deque
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager

import sqlalchemy as sa
from sqlalchemy import BigInteger, CheckConstraint, Column, Engine, Integer
from sqlalchemy.exc import DBAPIError
from sqlalchemy.exc import TimeoutError as PoolTimeout
from sqlmodel import Field, Session, SQLModel, col

# Numbers that are remembered: of ten minutes. What a standby lacks for longer is nothing to read at.
MOST_REMEMBERED = 600


class PulseRow(SQLModel, table=True):
    """The one row that processes raise, so that a standby's age can be told."""

    __tablename__ = "pulse"
    __table_args__ = (CheckConstraint("number = 1", name="pulse_once"),)

    number: int = Field(sa_column=Column(Integer, primary_key=True, autoincrement=False))
    beats: int = Field(sa_column=Column(BigInteger, nullable=False))


_BEAT = sa.update(PulseRow).values(beats=col(PulseRow.beats) + 1).returning(col(PulseRow.beats))
_SEEN = sa.select(col(PulseRow.beats))


class Standby:
    """A server that follows the primary. `seconds`: reads that may be old are answered by it up to this age."""

    def __init__(self, engine: Engine, seconds: float) -> None:
        self.engine, self.seconds = engine, seconds
        self._own: deque[tuple[int, float]] = deque(maxlen=MOST_REMEMBERED)
        self.age: float | None = None

    def beat(self, primary: Engine) -> None:
        """Raise the number at the primary, and remember when."""
        at = time.monotonic()
        with Session(primary) as session:
            number = session.execute(_BEAT).scalar_one()
            session.commit()
        self._own.append((number, at))

    def age_in(self, session: Session) -> float | None:
        """Return how old at most is what a session sees, in seconds; None: older than anything remembered."""
        seen = session.execute(_SEEN).scalar_one()
        at = next((at for number, at in reversed(tuple(self._own)) if number <= seen), None)
        self.age = None if at is None else time.monotonic() - at
        return self.age


class AgedRead:
    """The reads of one call that may be old. `age`: of the oldest that was read at the standby, in seconds, or None."""

    def __init__(self, standby: Standby, most_seconds: float) -> None:
        self._standby, self._most = standby, min(most_seconds, standby.seconds)
        self.age: float | None = None

    @contextmanager
    def session(self) -> Iterator[Session | None]:
        """Open a session at the standby that sees one state; None where it is away, busy or too far behind."""
        with ExitStack() as stack:
            yield self._opened(stack)

    def _opened(self, stack: ExitStack) -> Session | None:
        try:
            connection = stack.enter_context(self._standby.engine.connect())
            session = stack.enter_context(Session(connection.execution_options(isolation_level="REPEATABLE READ")))
            age = self._standby.age_in(session)
        except (DBAPIError, PoolTimeout):
            return None
        if age is None or age > self._most:
            return None
        self.age = max(age, self.age or 0.0)
        return session
