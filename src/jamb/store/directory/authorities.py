"""The small authority of a directory: it issues certificates to clients that ask for them with a key of their own."""

from __future__ import annotations

from datetime import datetime, timedelta
from uuid import UUID, uuid4

from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import (
    Encoding,
    NoEncryption,
    PrivateFormat,
    load_der_private_key,
)
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.credentials.issuing import Authority, authority_name, certify
from jamb.store.base.columns import blob, moment
from jamb.store.base.sealing import Sealer
from jamb.store.directory.directories import DirectoryRow

LIVES = timedelta(days=3650)


class AuthorityRow(SQLModel, table=True):
    """One authority of a directory. `certificate`: DER; `sealed`: its private key. The newest signs."""

    __tablename__ = "authority"

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id", index=True)
    certificate: bytes = blob()
    sealed: bytes = blob()
    made_at: datetime = moment()
    expires_at: datetime = moment()


def authorities_of(session: Session, directory_id: UUID) -> list[AuthorityRow]:
    """Return a directory's authorities, the newest first."""
    mine = select(AuthorityRow).where(AuthorityRow.directory_id == directory_id)
    return list(session.exec(mine.order_by(col(AuthorityRow.made_at).desc())))


def signing_authority(
    session: Session, sealer: Sealer, directory_id: UUID, organisation: str, now: datetime, until: datetime
) -> tuple[AuthorityRow, Authority, bool]:
    """Return the authority that outlives a moment, and whether it was made just now. Locks the directory's row."""
    session.get_one(DirectoryRow, directory_id, with_for_update=True)
    for row in authorities_of(session, directory_id):
        if row.expires_at >= until:
            key = load_der_private_key(sealer.open(row.sealed, f"authority {row.id}"), None)
            assert isinstance(key, ec.EllipticCurvePrivateKey)
            return row, Authority(x509.load_der_x509_certificate(row.certificate).subject, key), False
    key, identity = ec.generate_private_key(ec.SECP256R1()), uuid4()
    authority = Authority(authority_name(organisation), key)
    ends = (now + LIVES).replace(microsecond=0)
    made = certify(
        authority.name, key.public_key(), authority, x509.random_serial_number(), now, ends, of_authority=True
    )
    plain = key.private_bytes(Encoding.DER, PrivateFormat.PKCS8, NoEncryption())
    row = AuthorityRow(
        id=identity,
        directory_id=directory_id,
        certificate=made.public_bytes(Encoding.DER),
        sealed=sealer.seal(plain, f"authority {identity}"),
        made_at=now,
        expires_at=ends,
    )
    session.add(row)
    return row, authority, True
