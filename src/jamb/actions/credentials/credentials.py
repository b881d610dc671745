"""Credentials as they are seen; disable, enable or withdraw one."""

from __future__ import annotations

from datetime import timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.actions.base.subjects import credential_subject
from jamb.actions.base.views import credential_view
from jamb.actions.judgement.judging import Wanted, judge_acting, take_turn
from jamb.core.consent.agreements import ActKind
from jamb.core.credentials.term import CredentialState
from jamb.core.errors import AlreadyEnded, Conflict, NotFound
from jamb.core.rotation import RotationEnd
from jamb.store.base.work import Unit, check_reason
from jamb.store.clients import clients
from jamb.store.credentials import credentials, rotations
from jamb.wire.credentials.credentials import Credential

USED_FOR = timedelta(days=30)
MOST_USERS = 20


def list_users(act: Act, client_id: str, credential_id: UUID) -> list[rotations.User]:
    """Return from where and with which programs a credential was used in the last thirty days, the latest first."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        row = find_credential(session, client, credential_id)
        return rotations.users_of_credential(session, client.id, row.hint, act.now - USED_FOR, MOST_USERS)


def withdraw(act: Act, client_id: str, credential_id: UUID, reason: str) -> Credential:
    """End a credential now, for good. Raises `AlreadyEnded` when it was withdrawn before."""
    with act.change() as unit:
        client = find_client(unit.session, act.directory, client_id, lock=True)
        return withdraw_in(unit, client, credential_id, reason)


def set_credential_state(act: Act, client_id: str, credential_id: UUID, enabled: bool, reason: str) -> Credential:
    """Disable a credential, so that it proves nothing until it is enabled again.

    Raises:
        AlreadyEnded: it was withdrawn or has ended. Conflict: it is so already.
        NeedsAgreement: whoever has seen it could do more by it than they may.
    """
    check_reason(reason)
    with act.change() as unit:
        take_turn(unit)
        client = find_client(unit.session, act.directory, client_id, lock=True)
        row = find_credential(unit.session, client, credential_id)
        before = row.state(act.now, act.directory.policy.warn_before)
        if not row.stands(act.now):
            raise AlreadyEnded(f"{row.hint} is {before.value} already.", next_step="Add another credential.")
        if enabled is (row.disabled_at is None):
            raise Conflict(f"{row.hint} is {'enabled' if enabled else 'disabled'} already.")
        if enabled and row.seen_by_id:
            judge_acting(
                unit,
                client,
                [row.seen_by_id],
                Wanted(
                    ActKind.CREDENTIAL, f"“{client.name}”", {"enabled": str(row.id), "for": [row.seen_by_id]}, client.id
                ),
                "Withdraw it, and have another delivered to the owners.",
            )
        row.disabled_at = None if enabled else act.now
        unit.session.add(row)
        unit.enter(
            "credential.enabled" if enabled else "credential.disabled",
            credential_subject(row),
            before={"state": before.value},
            after={"state": row.state(act.now, act.directory.policy.warn_before).value},
            reason=reason,
        )
        return credential_view(row, act.now, act.directory.policy)


def find_credential(session: Session, client: clients.ClientRow, credential_id: UUID) -> credentials.CredentialRow:
    row = session.get(credentials.CredentialRow, credential_id)
    if row is None or row.client_id != client.id:
        raise no_credential(client, credential_id)
    return row


def no_credential(client: clients.ClientRow, credential_id: UUID) -> NotFound:
    return NotFound(f"“{client.name}” has no credential {credential_id}.")


def withdraw_in(
    unit: Unit, client: clients.ClientRow, credential_id: UUID, reason: str, *, rotation_stays: bool = False
) -> Credential:
    """Withdraw a credential within a unit; a rotation in which it takes part ends with it, unless it is to stay."""
    check_reason(reason)
    row = find_credential(unit.session, client, credential_id)
    if row.withdrawn_at is not None:
        raise AlreadyEnded(f"{row.hint} was withdrawn already, at {row.withdrawn_at:%Y-%m-%d %H:%M} UTC.")
    before = row.state(unit.now, unit.directory.policy.warn_before).value
    row.withdrawn_at = unit.now
    unit.session.add(row)
    rotation = None if rotation_stays else rotations.open_of_credential(unit.session, row.id)
    if rotation is not None:
        rotation.ended = (RotationEnd.CLOSED if rotation.old_id == row.id else RotationEnd.ABANDONED).value
        rotation.ended_at, rotation.ended_by = unit.now, unit.actor.name
        unit.session.add(rotation)
    unit.session.flush()
    unit.enter(
        "credential.withdrawn",
        credential_subject(row),
        before={"state": before},
        after={"state": CredentialState.WITHDRAWN.value},
        reason=reason,
    )
    return credential_view(row, unit.now, unit.directory.policy)
