"""Kept rows as they are answered, where more than one room shows them."""

from __future__ import annotations

from datetime import datetime
from uuid import UUID

from jamb.core.credentials.certificates import read_certificate
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.directory.policy import DirectoryPolicy
from jamb.store.credentials import credentials
from jamb.store.directory import people
from jamb.wire.credentials.credentials import Credential
from jamb.wire.directory.people import Person


def credential_view(row: credentials.CredentialRow, now: datetime, policy: DirectoryPolicy) -> Credential:
    kind = CredentialKind(row.kind)
    return Credential(
        id=row.id,
        kind=kind,
        hint=row.hint,
        label=row.label,
        state=row.state(now, policy.warn_before),
        issued_at=row.issued_at,
        issued_by=row.issued_by,
        starts_at=row.starts_at,
        expires_at=row.expires_at,
        withdrawn_at=row.withdrawn_at,
        first_used_at=row.first_used_at,
        last_used_at=row.last_used_at,
        serves=kind.serves,
        key_ids=tuple(str(key["kid"]) for key in row.keys or ()),
        certificate=read_certificate(row.certificate) if row.certificate is not None else None,
        issuer=row.issuer,
        subject=row.subject,
        keys_uri=row.keys_uri,
    )


def person_view(row: people.PersonRow, roles: dict[UUID, list[str]]) -> Person:
    return Person(id=row.id, name=row.name, login=row.login, active=row.active, roles=tuple(roles.get(row.id, ())))
