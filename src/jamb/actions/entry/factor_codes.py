"""A code that a person types: of their device, or one for when it is lost. Each counts once."""

from __future__ import annotations

import secrets
from datetime import datetime
from hmac import digest as hmac_digest
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.core.directory import second_factor as core
from jamb.core.directory.second_factor import step_of, tidied
from jamb.store.directory import passkeys
from jamb.store.directory import second_factors as store


def seal_secret(backend: Backend, person_id: UUID, secret: bytes) -> bytes:
    return backend.sealer.seal(secret, f"second factor {person_id}")


def open_secret(backend: Backend, row: store.SecondFactorRow) -> bytes:
    return backend.sealer.open(row.sealed, f"second factor {row.person_id}")


def digest_of(backend: Backend, code: str) -> bytes:
    """Return how a recovery code is kept."""
    return hmac_digest(backend.sealer.session_key, b"recovery code\0" + tidied(code).encode(), "sha256")


def fresh_codes(session: Session, backend: Backend, person_id: UUID) -> list[str]:
    """Return other recovery codes of a person, in place of those that there were."""
    codes = [core.recovery_code(secrets.token_bytes(core.RECOVERY_BYTES)) for _ in range(core.MOST_RECOVERY_CODES)]
    store.keep_recovery_codes(session, person_id, (digest_of(backend, code) for code in codes))
    return codes


def is_wanted(session: Session, row: store.SecondFactorRow | None, person_id: UUID) -> bool:
    """Tell whether a person has a second factor: a device that makes codes, or a passkey."""
    return (row is not None and row.confirmed_at is not None) or passkeys.has_one(session, person_id)


def is_good(
    session: Session, backend: Backend, person_id: UUID, row: store.SecondFactorRow | None, code: str, now: datetime
) -> bool:
    """Tell whether a code of the device, if there is one, or a recovery code is good, and use it up. `row`: locked."""
    if row is not None and row.confirmed_at is not None:
        return is_right(session, backend, row, code, now, device_alone=False)
    return store.use_recovery_code(session, person_id, digest_of(backend, code))


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
