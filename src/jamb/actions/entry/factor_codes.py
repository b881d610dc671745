"""A code that a person types: of their device, or one for when it is lost. Each counts once."""

from __future__ import annotations

from datetime import datetime
from hmac import digest as hmac_digest
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.core.directory.second_factor import step_of, tidied
from jamb.store.directory import second_factors as store


def seal_secret(backend: Backend, person_id: UUID, secret: bytes) -> bytes:
    return backend.sealer.seal(secret, f"second factor {person_id}")


def open_secret(backend: Backend, row: store.SecondFactorRow) -> bytes:
    return backend.sealer.open(row.sealed, f"second factor {row.person_id}")


def digest_of(backend: Backend, code: str) -> bytes:
    """Return how a recovery code is kept."""
    return hmac_digest(backend.sealer.session_key, b"recovery code\0" + tidied(code).encode(), "sha256")


def is_right(
    session: Session, backend: Backend, row: store.SecondFactorRow, code: str, now: datetime, *, device_alone: bool
) -> bool:
    """Tell whether a code is good, and use it up. `row`: locked.

    Args:
        device_alone: whether a recovery code does not do.
    """
    step = step_of(open_secret(backend, row), code, now.timestamp(), row.last_step)
    if step is not None:
        row.last_step = step
        session.add(row)
        return True
    return not device_alone and store.use_recovery_code(session, row.person_id, digest_of(backend, code))
