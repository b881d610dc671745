"""Credentials: issue a client secret with its connection sheet; disable, enable, withdraw or replace a credential."""

from __future__ import annotations

import secrets
from dataclasses import dataclass, replace
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.premises import Directory, Premises, find_client, find_directory, load_one
from jamb.core.clients import ClientKind, ClientState
from jamb.core.credentials import (
    Certificate,
    ConnectionSheet,
    CredentialKind,
    CredentialState,
    digest_secret,
    end_of,
    hint_of,
    read_certificate,
    refuse_credential,
    secret_from,
)
from jamb.core.errors import AlreadyEnded, BadInput, Conflict, NotFound
from jamb.core.excess import granted_weight
from jamb.core.policy import ANY_WEIGHT, DirectoryPolicy
from jamb.core.rotation import RotationEnd
from jamb.store import clients, credentials, resources, rotations
from jamb.store.work import Actor, Unit, unit_of_work

REASON_LONGEST = 500
LABEL_LONGEST = 80


@dataclass(frozen=True, slots=True)
class CredentialView:
    """A credential as lists show it: never more of a secret than its hint. `certificate`: of a certificate, its facts.

    `key_ids`: of the public keys that it holds. `issuer`, `subject`, `keys_uri`: of an outside issuer that is trusted.
    """

    id: UUID
    kind: CredentialKind
    hint: str
    label: str
    state: CredentialState
    issued_at: datetime
    issued_by: str
    starts_at: datetime | None
    expires_at: datetime | None
    withdrawn_at: datetime | None
    first_used_at: datetime | None
    last_used_at: datetime | None
    serves: tuple[str, ...]
    key_ids: tuple[str, ...]
    certificate: Certificate | None
    issuer: str
    subject: str
    keys_uri: str

    @property
    def works(self) -> bool:
        return self.state in {CredentialState.LIVE, CredentialState.EXPIRING}


@dataclass(frozen=True, slots=True)
class IssuedSecret:
    """What is returned once: the credential and one connection sheet per resource, each with the secret.

    `replaced`: the credential that was withdrawn in the same step, if any.
    """

    credential: CredentialView
    sheets: tuple[ConnectionSheet, ...]
    replaced: CredentialView | None = None


def issue_secret(
    premises: Premises,
    directory: Directory,
    client_id: str,
    days: int | None,
    actor: Actor,
    now: datetime,
    *,
    label: str = "",
    instead_of: UUID | None = None,
) -> IssuedSecret:
    """Issue a secret that ends after `days` (the policy's default when None).

    Args:
        instead_of: a lost credential that is withdrawn in the same step.

    Raises:
        BadInput, LivesTooLong: an end the policy does not allow, or a secret for a client that may do too much for one.
        Conflict: a public client cannot keep a secret (RFC 6749 section 2.1); a disabled one gets none; the client has
            as many credentials as the policy allows at once.
        NotFound, AlreadyEnded: of the credential that would be replaced.
    """
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        replaced = None
        if instead_of is not None:
            reason = "Lost: another was issued in its place"
            replaced = withdraw_in(unit, directory, client, instead_of, reason, actor, now)
        issued = issue_in(unit, premises, directory, client, days, label, actor, now)
        return replace(issued, replaced=replaced)


def issue_in(
    unit: Unit,
    premises: Premises,
    directory: Directory,
    client: clients.ClientRow,
    days: int | None,
    label: str,
    actor: Actor,
    now: datetime,
    *,
    rotating: bool = False,
) -> IssuedSecret:
    """Issue a secret within a unit, to a client that is locked. Raises as `issue_secret`."""
    ends = end_of(directory.policy, CredentialKind.SECRET, now, days)
    secret = secret_from(secrets.token_bytes(32))
    admit_credential(unit.session, directory, client, CredentialKind.SECRET, now, rotating=rotating)
    row = credentials.CredentialRow(
        id=uuid4(),
        client_id=client.id,
        kind=CredentialKind.SECRET.value,
        hint=hint_of(secret),
        label=checked_label(label),
        digest=digest_secret(premises.sealer.credential_key, secret),
        issued_at=now,
        issued_by=actor.name,
        expires_at=ends,
    )
    unit.session.add(row)
    after = {"hint": row.hint, "ends": ends.isoformat(timespec="seconds")}
    unit.enter(actor, "secret.issued", credential_subject(row), now=now, after=after)
    sheets = _sheets(unit.session, premises, directory, client, secret, ends, now)
    return IssuedSecret(credential_view(row, now, directory.policy), sheets)


def connection_sheets(premises: Premises, slug: str, client_id: str, now: datetime) -> tuple[ConnectionSheet, ...]:
    """Return the client's sheets without any secret."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        return _sheets(session, premises, directory, find_client(session, directory, client_id), None, None, now)


def withdraw(
    premises: Premises,
    directory: Directory,
    client_id: str,
    credential_id: UUID,
    reason: str,
    actor: Actor,
    now: datetime,
) -> CredentialView:
    """End a credential now, for good. Raises `AlreadyEnded` when it was withdrawn before."""
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        return withdraw_in(unit, directory, client, credential_id, reason, actor, now)


def set_credential_state(
    premises: Premises,
    directory: Directory,
    client_id: str,
    credential_id: UUID,
    enabled: bool,
    reason: str,
    actor: Actor,
    now: datetime,
) -> CredentialView:
    """Disable a credential, so that it proves nothing until it is enabled again.

    Raises:
        AlreadyEnded: it was withdrawn or has ended. Conflict: it is so already.
    """
    _check_reason(reason)
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        row = find_credential(unit.session, client, credential_id)
        before = row.state(now, directory.policy.notice)
        if not row.stands(now):
            raise AlreadyEnded(f"{row.hint} is {before.value} already.", next_step="Add another credential.")
        if enabled is (row.disabled_at is None):
            raise Conflict(f"{row.hint} is {'enabled' if enabled else 'disabled'} already.")
        row.disabled_at = None if enabled else now
        unit.session.add(row)
        unit.enter(
            actor,
            "credential.enabled" if enabled else "credential.disabled",
            credential_subject(row),
            now=now,
            before={"state": before.value},
            after={"state": row.state(now, directory.policy.notice).value},
            reason=reason,
        )
        return credential_view(row, now, directory.policy)


def admit_credential(
    session: Session,
    directory: Directory,
    client: clients.ClientRow,
    kind: CredentialKind,
    now: datetime,
    *,
    rotating: bool = False,
) -> None:
    """Raise unless a client, locked, may be given one more credential of this kind.

    Args:
        rotating: another one goes for it, so that it does not count against how many may stand at once.
    """
    if client.state != ClientState.LIVE:
        raise Conflict(f"“{client.name}” is disabled.", next_step="Enable it before adding a credential.")
    standing = sum(row.stands(now) for row in credentials.credentials_of(session, [client.id])) - rotating
    weight = 0
    # To weigh a client reads all that it holds: only where the policy bounds the weight at all.
    if kind is CredentialKind.SECRET and directory.policy.secret_heaviest_weight < ANY_WEIGHT:
        weight = granted_weight(load_one(session, directory, client, now).picture.resources)
    refuse_credential(directory.policy, client.name, ClientKind(client.kind), kind, standing, weight)


def checked_label(label: str) -> str:
    """Return a label with its white space in order. Raises `BadInput` when it is too long."""
    words = " ".join(label.split())
    if len(words) > LABEL_LONGEST:
        raise BadInput.field("label", f"{len(words)} characters", f"at most {LABEL_LONGEST} characters")
    return words


def find_credential(session: Session, client: clients.ClientRow, credential_id: UUID) -> credentials.CredentialRow:
    row = session.get(credentials.CredentialRow, credential_id)
    if row is None or row.client_id != client.id:
        raise NotFound(f"“{client.name}” has no credential {credential_id}.")
    return row


def credential_subject(row: credentials.CredentialRow) -> dict[str, str]:
    return {"kind": "credential", "id": str(row.id), "name": row.hint, "client": row.client_id}


def credential_view(row: credentials.CredentialRow, now: datetime, policy: DirectoryPolicy) -> CredentialView:
    kind = CredentialKind(row.kind)
    return CredentialView(
        id=row.id,
        kind=kind,
        hint=row.hint,
        label=row.label,
        state=row.state(now, policy.notice),
        issued_at=row.issued_at,
        issued_by=row.issued_by,
        starts_at=row.starts_at,
        expires_at=row.expires_at,
        withdrawn_at=row.withdrawn_at,
        first_used_at=row.first_used_at,
        last_used_at=row.last_used_at,
        serves=kind.serves,
        key_ids=tuple(str(one["kid"]) for one in row.keys or ()),
        certificate=read_certificate(row.certificate) if row.certificate is not None else None,
        issuer=row.issuer,
        subject=row.subject,
        keys_uri=row.keys_uri,
    )


def _check_reason(reason: str) -> None:
    if len(reason) > REASON_LONGEST:
        raise BadInput.field("reason", f"{len(reason)} characters", f"at most {REASON_LONGEST} characters")


def withdraw_in(
    unit: Unit,
    directory: Directory,
    client: clients.ClientRow,
    credential_id: UUID,
    reason: str,
    actor: Actor,
    now: datetime,
    *,
    rotation_stays: bool = False,
) -> CredentialView:
    """Withdraw a credential within a unit; a rotation in which it takes part ends with it, unless it is to stay."""
    _check_reason(reason)
    row = find_credential(unit.session, client, credential_id)
    if row.withdrawn_at is not None:
        raise AlreadyEnded(f"{row.hint} was withdrawn already, at {row.withdrawn_at:%Y-%m-%d %H:%M} UTC.")
    before = row.state(now, directory.policy.notice).value
    row.withdrawn_at = now
    unit.session.add(row)
    rotation = None if rotation_stays else rotations.open_of_credential(unit.session, row.id)
    if rotation is not None:
        rotation.ended = (RotationEnd.CLOSED if rotation.old_id == row.id else RotationEnd.ABANDONED).value
        rotation.ended_at, rotation.ended_by = now, actor.name
        unit.session.add(rotation)
    unit.session.flush()
    unit.enter(
        actor,
        "credential.withdrawn",
        credential_subject(row),
        now=now,
        before={"state": before},
        after={"state": CredentialState.WITHDRAWN.value},
        reason=reason,
    )
    return credential_view(row, now, directory.policy)


def _kind_on_sheets(
    session: Session, directory: Directory, client: clients.ClientRow, secret: str | None, now: datetime
) -> CredentialKind:
    """Return by which kind the client proves itself: the secret that is shown, else the newest that works."""
    if secret is None:
        for row in credentials.credentials_of(session, [client.id]):
            if credential_view(row, now, directory.policy).works:
                return CredentialKind(row.kind)
    return CredentialKind.SECRET


def _sheets(
    session: Session,
    premises: Premises,
    directory: Directory,
    client: clients.ClientRow,
    secret: str | None,
    ends: datetime | None,
    now: datetime,
) -> tuple[ConnectionSheet, ...]:
    """Make one sheet per resource that the client asks for or holds; one without resource when there is none yet."""
    kind = _kind_on_sheets(session, directory, client, secret, now)
    wanted: dict[UUID, set[str]] = {}
    held: list[clients.AskRow | clients.GrantRow] = [*clients.asks_of(session, [client.id])]
    held += clients.grants_of(session, [client.id])
    for row in held:
        wanted.setdefault(row.resource_id, set()).add(row.permission)
    identifiers = {found.id: found.identifier for found in resources.resources_of(session, directory.id)}
    places = [(identifiers[key], tuple(sorted(names))) for key, names in wanted.items()] or [("", ())]
    return tuple(
        ConnectionSheet(
            client_name=client.name,
            issuer=premises.issuer(directory.slug),
            token_endpoint=premises.token_endpoint(directory.slug),
            client_id=client.id,
            resource=identifier,
            scopes=scopes,
            secret=secret,
            secret_ends=ends,
            kind=kind,
        )
        for identifier, scopes in sorted(places)
    )
