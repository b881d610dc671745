"""What may follow a credential in its rotation, each put beside the old one within the rotation's own transaction."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from typing import Any

from jamb.actions import credentials, keys
from jamb.actions.credentials import CredentialView
from jamb.actions.premises import Directory, Premises
from jamb.core.credentials import ConnectionSheet, CredentialKind, KeyType
from jamb.core.errors import BadInput
from jamb.store.clients import ClientRow
from jamb.store.credentials import CredentialRow
from jamb.store.keypairs import KeyPair
from jamb.store.work import Actor, Unit


@dataclass(frozen=True, slots=True)
class Put:
    """The new credential, and what of it is shown once."""

    credential: CredentialView
    sheets: tuple[ConnectionSheet, ...] = ()
    pair: KeyPair | None = None


@dataclass(frozen=True, slots=True)
class Place:
    """Where a successor is put: a locked client within an open unit."""

    unit: Unit
    premises: Premises
    directory: Directory
    client: ClientRow
    label: str
    actor: Actor
    now: datetime


@dataclass(frozen=True, slots=True)
class SecretIssued:
    days: int | None = None

    def put(self, at: Place) -> Put:
        issued = credentials.issue_in(
            at.unit, at.premises, at.directory, at.client, self.days, at.label, at.actor, at.now, rotating=True
        )
        return Put(issued.credential, issued.sheets)


@dataclass(frozen=True, slots=True)
class CertificateMade:
    key_type: KeyType = KeyType.P256
    days: int | None = None

    def put(self, at: Place) -> Put:
        made = keys.make_certificate_in(
            at.unit, at.directory, at.client, self.key_type, self.days, at.label, at.actor, at.now, rotating=True
        )
        return Put(made.credential, pair=made.pair)


@dataclass(frozen=True, slots=True)
class CertificateGiven:
    upload: bytes

    def put(self, at: Place) -> Put:
        return Put(
            keys.add_certificate_in(
                at.unit, at.directory, at.client, self.upload, at.label, at.actor, at.now, rotating=True
            )
        )


@dataclass(frozen=True, slots=True)
class KeysGiven:
    document: Any
    keys_uri: str = ""
    days: int | None = None

    def put(self, at: Place) -> Put:
        return Put(
            keys.add_keys_in(
                at.unit, at.directory, at.client, self.document, self.keys_uri, self.days, at.label, at.actor, at.now,
                rotating=True,
            )
        )  # fmt: skip


@dataclass(frozen=True, slots=True)
class IssuerTrusted:
    issuer: str
    subject: str
    document: Any = None
    keys_uri: str = ""
    days: int | None = None

    def put(self, at: Place) -> Put:
        return Put(
            keys.trust_issuer_in(
                at.unit, at.premises, at.directory, at.client, self.issuer, self.subject, self.document, self.keys_uri,
                self.days, at.label, at.actor, at.now, rotating=True,
            )
        )  # fmt: skip


Successor = SecretIssued | CertificateMade | CertificateGiven | KeysGiven | IssuerTrusted


def alike(row: CredentialRow, days: int | None) -> Successor:
    """Return the successor that is like a credential. Raises `BadInput` where only the client can make one."""
    match CredentialKind(row.kind):
        case CredentialKind.SECRET:
            return SecretIssued(days)
        case CredentialKind.CERTIFICATE:
            rsa = bool(row.keys) and (row.keys or [{}])[0].get("kty") == "RSA"
            return CertificateMade(KeyType.RSA3072 if rsa else KeyType.P256, days)
        case CredentialKind.ISSUER:
            document = {"keys": row.keys} if row.keys else None
            return IssuerTrusted(row.issuer, row.subject, document, row.keys_uri, days)
        case CredentialKind.KEYS:
            if row.keys_uri:
                return KeysGiven(None, row.keys_uri, days)
            allowed = "a key set with the client's new public keys"
            raise BadInput.field("successor", "nothing", allowed, "Have the client make them, then open it with those.")
