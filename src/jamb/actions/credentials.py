"""Credentials: issue a client secret with its connection sheet, withdraw a credential."""

from __future__ import annotations

import secrets
from dataclasses import dataclass
from datetime import datetime
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.premises import Directory, Premises, find_client, find_directory
from jamb.core.clients import ClientKind, ClientState
from jamb.core.credentials import (
    ConnectionSheet,
    CredentialState,
    digest_secret,
    end_of_secret,
    hint_of,
    secret_from,
    state_of,
)
from jamb.core.errors import AlreadyEnded, BadInput, Conflict, NotFound
from jamb.core.policy import DirectoryPolicy
from jamb.store import clients, credentials, resources
from jamb.store.work import Actor, unit_of_work

SECRET = "secret"  # noqa: S105 - the name of a kind
REASON_LONGEST = 500


@dataclass(frozen=True, slots=True)
class CredentialView:
    """A credential as lists show it: never more of the secret than its hint."""

    id: UUID
    kind: str
    hint: str
    state: CredentialState
    issued_at: datetime
    issued_by: str
    expires_at: datetime | None
    withdrawn_at: datetime | None
    first_used_at: datetime | None
    last_used_at: datetime | None

    @property
    def works(self) -> bool:
        return self.state in {CredentialState.LIVE, CredentialState.EXPIRING}


@dataclass(frozen=True, slots=True)
class IssuedSecret:
    """What is returned once: the credential and one connection sheet per resource, each with the secret."""

    credential: CredentialView
    sheets: tuple[ConnectionSheet, ...]


def issue_secret(
    premises: Premises,
    directory: Directory,
    client_id: str,
    days: int | None,
    actor: Actor,
    now: datetime,
) -> IssuedSecret:
    """Issue a secret that ends after `days` (the policy's default when None).

    Raises:
        BadInput, SecretTooLong: an end the policy does not allow.
        Conflict: a public client cannot keep a secret (RFC 6749 section 2.1); a disabled one gets none.
    """
    ends = end_of_secret(directory.policy, now, days)
    secret = secret_from(secrets.token_bytes(32))
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        if client.kind != ClientKind.SERVICE:
            raise Conflict(f"“{client.name}” is a public client: it cannot keep a secret.")
        if client.state != ClientState.LIVE:
            raise Conflict(f"“{client.name}” is disabled.", next_step="Enable it before issuing a secret.")
        row = credentials.CredentialRow(
            id=uuid4(),
            client_id=client.id,
            kind=SECRET,
            hint=hint_of(secret),
            digest=digest_secret(premises.sealer.credential_key, secret),
            issued_at=now,
            issued_by=actor.name,
            expires_at=ends,
        )
        unit.session.add(row)
        unit.enter(
            actor,
            "secret.issued",
            {"kind": "credential", "id": str(row.id), "name": row.hint, "client": client.id},
            now=now,
            after={"hint": row.hint, "ends": ends.isoformat(timespec="seconds")},
        )
        sheets = _sheets(unit.session, premises, directory, client, secret, ends)
        return IssuedSecret(credential_view(row, now, directory.policy), sheets)


def connection_sheets(premises: Premises, slug: str, client_id: str) -> tuple[ConnectionSheet, ...]:
    """Return the client's sheets without any secret."""
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        return _sheets(session, premises, directory, find_client(session, directory, client_id), None, None)


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
    if len(reason) > REASON_LONGEST:
        raise BadInput.field("reason", f"{len(reason)} characters", f"at most {REASON_LONGEST} characters")
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        client = find_client(unit.session, directory, client_id, lock=True)
        row = unit.session.get(credentials.CredentialRow, credential_id)
        if row is None or row.client_id != client.id:
            raise NotFound(f"“{client.name}” has no credential {credential_id}.")
        if row.withdrawn_at is not None:
            raise AlreadyEnded(f"{row.hint} was withdrawn already, at {row.withdrawn_at:%Y-%m-%d %H:%M} UTC.")
        before = credential_view(row, now, directory.policy).state.value
        row.withdrawn_at = now
        unit.session.add(row)
        unit.enter(
            actor,
            "credential.withdrawn",
            {"kind": "credential", "id": str(row.id), "name": row.hint, "client": client.id},
            now=now,
            before={"state": before},
            after={"state": CredentialState.WITHDRAWN.value},
            reason=reason,
        )
        return credential_view(row, now, directory.policy)


def credential_view(row: credentials.CredentialRow, now: datetime, policy: DirectoryPolicy) -> CredentialView:
    return CredentialView(
        id=row.id,
        kind=row.kind,
        hint=row.hint,
        state=state_of(row.expires_at, row.withdrawn_at, now, policy.notice),
        issued_at=row.issued_at,
        issued_by=row.issued_by,
        expires_at=row.expires_at,
        withdrawn_at=row.withdrawn_at,
        first_used_at=row.first_used_at,
        last_used_at=row.last_used_at,
    )


def _sheets(
    session: Session,
    premises: Premises,
    directory: Directory,
    client: clients.ClientRow,
    secret: str | None,
    ends: datetime | None,
) -> tuple[ConnectionSheet, ...]:
    """Make one sheet per resource that the client asks for or holds; one without resource when there is none yet."""
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
        )
        for identifier, scopes in sorted(places)
    )
