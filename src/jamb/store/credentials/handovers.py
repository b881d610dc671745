"""Handovers: what they carry is sealed with the key of their link, and gone once it was shown."""

from __future__ import annotations

import os
from datetime import datetime
from uuid import UUID

from argon2.low_level import Type, hash_secret_raw
from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from cryptography.hazmat.primitives.hashes import SHA256
from cryptography.hazmat.primitives.kdf.hkdf import HKDF
from sqlalchemy import Column, ForeignKey, Index, Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.store.base.columns import blob, moment
from jamb.store.credentials.credentials import CredentialRow

_NONCE_BYTES = 12


class HandoverRow(SQLModel, table=True):
    """`digest`: keyed, of the link's key; `sealed`: null once it was shown, withdrawn, or locked.

    `late_tries`: how often it was tried after it had been opened, and from where last.
    """

    __tablename__ = "handover"
    __table_args__ = (Index("handover_of_directory", "directory_id", "made_at"),)

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), nullable=False, index=True))
    credential_id: UUID = Field(foreign_key="credential.id")
    digest: bytes = blob()
    sealed: bytes | None = blob(nullable=True)
    has_passphrase: bool
    note: str = Field(default="", sa_type=Text)
    made_at: datetime = moment()
    made_by: str = Field(sa_type=Text)
    expires_at: datetime = moment()
    opened_at: datetime | None = moment(nullable=True)
    opened_from: str = Field(default="", sa_type=Text)
    opened_with: str = Field(default="", sa_type=Text)
    withdrawn_at: datetime | None = moment(nullable=True)
    wrong_tries: int = 0
    late_tries: int = 0
    late_at: datetime | None = moment(nullable=True)
    late_from: str = Field(default="", sa_type=Text)


def handovers_of(session: Session, client_id: str) -> list[tuple[HandoverRow, str]]:
    """Return a client's handovers with the hint of what they carried, newest first."""
    rows = session.exec(
        select(HandoverRow, CredentialRow.hint)
        .join(CredentialRow, col(CredentialRow.id) == HandoverRow.credential_id)
        .where(HandoverRow.client_id == client_id)
        .order_by(col(HandoverRow.made_at).desc())
        .limit(100)
    )
    return [(row, hint) for row, hint in rows]


def handover_by_id(session: Session, handover_id: UUID, *, lock: bool = False) -> HandoverRow | None:
    statement = select(HandoverRow).where(HandoverRow.id == handover_id)
    return session.exec(statement.with_for_update() if lock else statement).first()


def seal_handover(handover_id: UUID, key: bytes, plain: bytes) -> bytes:
    """Seal with a key that `handover_key` made."""
    nonce = os.urandom(_NONCE_BYTES)
    return nonce + AESGCM(key).encrypt(nonce, plain, handover_id.bytes)


def open_handover(handover_id: UUID, key: bytes, sealed: bytes) -> bytes | None:
    """Return what was sealed; None where the passphrase that the key was made with is not the one."""
    try:
        found = AESGCM(key)
        return found.decrypt(sealed[:_NONCE_BYTES], sealed[_NONCE_BYTES:], handover_id.bytes)
    except InvalidTag:
        return None


def handover_key(handover_id: UUID, key: bytes, passphrase: str) -> bytes:
    """Derive the sealing key: HKDF (RFC 5869) of the link's key and, if there is one, the passphrase by argon2id.

    With a passphrase that takes a while and 64 MiB: it is done in the pool for it, outside of transactions.
    """
    stretched = b""
    if passphrase:
        # RFC 9106 section 4, second recommended option: whoever steals link and database still has to guess.
        stretched = hash_secret_raw(passphrase.encode(), handover_id.bytes, 3, 65_536, 4, 32, Type.ID)
    return HKDF(SHA256(), 32, handover_id.bytes, b"jamb handover").derive(key + stretched)
