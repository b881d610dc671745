"""What is said where the database is away, full, busy or takes no changes. Our own mistakes are told apart."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from psycopg import InterfaceError as DriverInterfaceError
from psycopg import OperationalError as DriverOperationalError
from psycopg_pool import PoolTimeout as DriverPoolTimeout
from sqlalchemy.exc import DBAPIError, InterfaceError, OperationalError
from sqlalchemy.exc import TimeoutError as PoolTimeout

from jamb.core.errors import Busy, OutcomeUnknown, StoreUnavailable, WorldFailure
from jamb.store.base.actor import Once

RETRY_AFTER_SECONDS = 2
_SOON = "Try again in a few seconds."
_OPERATOR = "Tell whoever runs the service: its log says why."
# By what the server said (SQLSTATE, PostgreSQL manual, appendix A), or the class of it.
_UNAVAILABLE = {
    "25006": ("The database takes no changes at present: it is a standby, or was set read-only.", _SOON),
    "53100": ("The database has no space left on its disk.", _OPERATOR),
    "53300": ("The database has no connection left for the service.", _SOON),
    "28": ("The database does not let the service in.", _OPERATOR),
    "3D": ("The service's database is not there.", _OPERATOR),
}
_BUSY = {
    "57014": "The database did not finish in the time that a request has.",
    "55P03": "Another change holds what this one needs.",
    "40": "Two changes stood in each other's way, and this one gave way.",
}
# Of a connection that is not made only the words are known.
_WORDS = {
    "too many clients": "53300",
    "remaining connection slots": "53300",
    "authentication failed": "28",
    "no pg_hba.conf entry": "28",
    "does not exist": "3D",
}


def outage_of(error: BaseException) -> WorldFailure | None:
    """Return what to say where the world failed the service and not its caller; None where the database refused."""
    if isinstance(error, PoolTimeout):
        # To make a connection fails otherwise: here all that may be made are at work.
        return busy()
    if not isinstance(error, DBAPIError):
        return None
    state = _state(error.orig)
    gone = isinstance(error, (OperationalError, InterfaceError)) or error.connection_invalidated
    return _said(state) if gone or _found(state, _UNAVAILABLE) or _found(state, _BUSY) else None


def driver_outage(error: BaseException, pool: Any = None) -> WorldFailure:
    """Return the same of an error of the driver or its pool: a pool whose connections all work is busy."""
    if isinstance(error, DriverPoolTimeout):
        stats = pool.get_stats()
        return busy() if stats.get("pool_size", 0) >= stats.get("pool_max", 1) else unavailable()
    return _said(_state(error))


def reason_of(error: BaseException) -> dict[str, str]:
    """Return why, for the log: the database's own words for its condition, which hold no value of a record."""
    cause = error.orig if isinstance(error, DBAPIError) and error.orig is not None else error
    diagnosis = getattr(cause, "diag", None)
    away = isinstance(cause, (DriverOperationalError, DriverInterfaceError, DriverPoolTimeout, PoolTimeout))
    found = {
        "error": type(cause).__name__,
        "sqlstate": getattr(cause, "sqlstate", None),
        "constraint": getattr(diagnosis, "constraint_name", None),
        "table": getattr(diagnosis, "table_name", None),
        "column": getattr(diagnosis, "column_name", None),
        # Of what the server said its first line alone: further ones may quote a row.
        "words": " ".join((getattr(diagnosis, "message_primary", None) or str(cause)).split())[:300] if away else None,
    }
    return {name: value for name, value in found.items() if value}


@contextmanager
def committing(once: Once | None = None) -> Iterator[None]:
    """Commit in the block. Where the answer to it is lost, what became of it is not known, and is not made up.

    Raises:
        OutcomeUnknown: the connection ended before the server answered.
    """
    try:
        yield
    except DBAPIError as error:
        if not error.connection_invalidated:
            raise
        step = (
            "Send it again with the same Idempotency-Key: it is done once, and the answer says what was made."
            if once is not None
            else "Look whether it was done before you send it again."
        )
        raise OutcomeUnknown(
            "The database's answer was lost: whether this was done is not known.",
            next_step=step,
            retry_after_seconds=RETRY_AFTER_SECONDS,
        ) from error


def busy(why: str = "All of the service's database connections are at work.") -> Busy:
    return Busy(f"{why} Nothing was changed.", next_step=_SOON, retry_after_seconds=RETRY_AFTER_SECONDS)


def unavailable(why: str = "The database does not answer.", next_step: str = _SOON) -> StoreUnavailable:
    return StoreUnavailable(f"{why} Nothing was changed.", next_step=next_step, retry_after_seconds=RETRY_AFTER_SECONDS)


def _said(state: str) -> WorldFailure:
    if (why := _found(state, _BUSY)) is not None:
        return busy(why)
    words = _found(state, _UNAVAILABLE)
    return unavailable(*words) if words is not None else unavailable()


def _found(state: str, among: dict[str, Any]) -> Any:
    return among.get(state, among.get(state[:2]))


def _state(cause: BaseException | None) -> str:
    state = getattr(cause, "sqlstate", None)
    if state:
        return str(state)
    return next((known for words, known in _WORDS.items() if words in str(cause)), "")
