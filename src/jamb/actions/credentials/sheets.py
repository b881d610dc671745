"""Connection sheets: what an integrator must type, for each resource of a client."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client
from jamb.core.credentials import ConnectionSheet, CredentialKind, CredentialState
from jamb.core.directory.directories import Directory
from jamb.store.clients import clients
from jamb.store.credentials import credentials
from jamb.store.resources import resources


def connection_sheets(act: Act, client_id: str) -> tuple[ConnectionSheet, ...]:
    """Return the client's sheets without any secret."""
    with act.read() as session:
        return sheets_of(act, session, find_client(session, act.directory, client_id), None, None)


def _kind_on_sheets(
    session: Session, directory: Directory, client: clients.ClientRow, secret: str | None, now: datetime
) -> CredentialKind:
    """Return by which kind the client proves itself: the secret that is shown, else the newest that works."""
    if secret is None:
        for row in credentials.credentials_of(session, [client.id]):
            if row.state(now, directory.policy.warn_before) in {CredentialState.LIVE, CredentialState.EXPIRING}:
                return CredentialKind(row.kind)
    return CredentialKind.SECRET


def sheets_of(
    act: Act, session: Session, client: clients.ClientRow, secret: str | None, ends: datetime | None
) -> tuple[ConnectionSheet, ...]:
    """Make one sheet per resource that the client asks for or holds; one without resource when there is none yet."""
    kind = _kind_on_sheets(session, act.directory, client, secret, act.now)
    wanted: dict[UUID, set[str]] = {}
    held: list[clients.AskRow | clients.GrantRow] = [*clients.asks_of(session, [client.id])]
    held += clients.grants_of(session, [client.id])
    for row in held:
        wanted.setdefault(row.resource_id, set()).add(row.permission)
    identifiers = {found.id: found.identifier for found in resources.resources_of(session, act.directory.id)}
    places = [(identifiers[key], tuple(sorted(names))) for key, names in wanted.items()] or [("", ())]
    return tuple(
        ConnectionSheet(
            client_name=client.name,
            issuer=act.backend.issuer(act.slug),
            token_endpoint=act.backend.token_endpoint(act.slug),
            client_id=client.id,
            resource=identifier,
            scopes=scopes,
            secret=secret,
            secret_expires_at=ends,
            kind=kind,
        )
        for identifier, scopes in sorted(places)
    )
