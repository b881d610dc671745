"""Credentials (of secrets only the keyed digests, of keys only the public part) and device authorizations."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime, timedelta
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import Column, ForeignKey, Index, LargeBinary, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import ARRAY, insert
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core.audit.picture import CredentialPicture
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.lookup import LookedFor
from jamb.core.credentials.public_keys import weak_among
from jamb.core.credentials.term import CredentialState, state_of
from jamb.store.base.columns import among, among_ids, blob, document, moment, one_of
from jamb.store.base.driver import insert_many
from jamb.store.clients.clients import ClientRow
from jamb.store.entry import authorizations

_NOT_ENDED = sa.text("withdrawn_at IS NULL AND disabled_at IS NULL")
_STARTS = sa.text("withdrawn_at IS NULL AND starts_at IS NOT NULL")


class CredentialRow(SQLModel, table=True):
    """One credential. `keys`: public JWKs; `certificate`: DER; `issuer`, `subject`: of an issuer that is trusted.

    `fingerprint`: by which a secret that leaked is looked up; none for secrets of before it was kept.
    """

    __tablename__ = "credential"
    __table_args__ = (
        UniqueConstraint("digest", name="credential_digest"),
        Index("credential_fingerprint", "fingerprint"),
        Index("credential_seen_by", "seen_by_id"),
        # Of every directory by itself, so that a small one does not pay for those beside it.
        Index(
            "credential_by_end",
            "directory_id",
            "expires_at",
            "id",
            postgresql_where=_NOT_ENDED,
            postgresql_include=["starts_at"],
        ),
        Index("credential_by_start", "directory_id", "starts_at", postgresql_where=_STARTS),
        Index("credential_certificates", "issued_at", postgresql_where=sa.text("certificate IS NOT NULL")),
    )

    id: UUID = Field(primary_key=True)
    client_id: str = Field(foreign_key="client.id", sa_type=Text, index=True)
    # Of its client.
    directory_id: UUID = Field(foreign_key="directory.id")
    kind: str = Field(sa_type=Text)
    hint: str = Field(sa_type=Text)
    label: str = Field(default="", sa_type=Text)
    digest: bytes | None = blob(nullable=True)
    fingerprint: bytes | None = blob(nullable=True)
    keys: list[dict[str, Any]] | None = document(nullable=True)
    key_thumbprints: list[str] | None = Field(default=None, sa_column=Column(ARRAY(Text), nullable=True))
    certificate: bytes | None = blob(nullable=True)
    issuer: str = Field(default="", sa_type=Text)
    subject: str = Field(default="", sa_type=Text)
    keys_uri: str = Field(default="", sa_type=Text)
    issued_at: datetime = moment()
    issued_by: str = Field(sa_type=Text)
    # The person or client who could read it when it was made, or chose whose key it is; empty: nobody did.
    seen_by_id: str = Field(default="", sa_type=Text)
    starts_at: datetime | None = moment(nullable=True)
    expires_at: datetime | None = moment(nullable=True)
    disabled_at: datetime | None = moment(nullable=True)
    withdrawn_at: datetime | None = moment(nullable=True)
    first_used_at: datetime | None = moment(nullable=True)
    last_used_at: datetime | None = moment(nullable=True)

    def state(self, now: datetime, notice: timedelta) -> CredentialState:
        return state_of(
            self.expires_at, self.withdrawn_at, now, notice, starts_at=self.starts_at, disabled_at=self.disabled_at
        )

    def stands(self, now: datetime) -> bool:
        return self.withdrawn_at is None and (self.expires_at is None or self.expires_at > now)


def write(session: Session, rows: Iterable[CredentialRow]) -> None:
    """Write credentials that are no objects of the session: many at once."""
    insert_many(session, CredentialRow, [row.model_dump() for row in rows])


def pictures_of(session: Session, client_ids: Iterable[str]) -> dict[str, list[CredentialPicture]]:
    """Return the credentials of clients as rules see them, by client, without table objects: many at once."""
    found: dict[str, list[CredentialPicture]] = {}
    rows = session.execute(_seen_by_rules(), {"clients": list(client_ids)})
    for client_id, *facts in rows:
        found.setdefault(client_id, []).append(_picture(facts))
    for held in found.values():
        held.sort(key=_newest, reverse=True)
    return found


def pictured(held: Mapping[str, Iterable[CredentialRow]]) -> dict[str, list[CredentialPicture]]:
    """Return the same of credentials that were read as they are kept."""
    return {
        client_id: sorted((_picture(getattr(row, name) for name in _FACTS) for row in rows), key=_newest, reverse=True)
        for client_id, rows in held.items()
    }


_FACTS = (
    "id",
    "kind",
    "hint",
    "issued_at",
    "starts_at",
    "expires_at",
    "disabled_at",
    "withdrawn_at",
    "last_used_at",
    "keys",
)


def _picture(facts: Iterable[Any]) -> CredentialPicture:
    key, kind, hint, issued, starts, ends, disabled, withdrawn, used, keys = facts
    weak = weak_among(keys) if keys else ""
    return CredentialPicture(
        str(key), CredentialKind(kind), hint, issued, starts, ends, disabled, withdrawn, used, weak
    )


def _newest(credential: CredentialPicture) -> tuple[datetime, str]:
    return credential.issued_at, credential.id


@cache
def _seen_by_rules() -> sa.Select[Any]:
    columns: tuple[Any, ...] = tuple(col(getattr(CredentialRow, name)) for name in ("client_id", *_FACTS))
    return sa.select(*columns).where(one_of(CredentialRow.client_id, "clients"))


def having_credential(meant: LookedFor) -> sa.Select[str]:
    """Return the clients that have, or had, a credential like this, as a query."""
    return sa.select(col(CredentialRow.client_id)).where(is_meant(meant))


def is_meant(meant: LookedFor) -> sa.ColumnElement[bool]:
    """Return the condition under which a credential is one that is looked for."""
    if meant.hint:
        return col(CredentialRow.hint).startswith(meant.hint, autoescape=True)
    of_key = col(CredentialRow.key_thumbprints).contains([meant.thumbprint])
    return of_key | col(CredentialRow.keys).contains([{"x5t#S256": meant.thumbprint}])


def works(now: datetime | sa.BindParameter[datetime]) -> sa.ColumnElement[bool]:
    """Return the condition of `core.credentials.state_of` under which a credential proves its client."""
    return sa.and_(
        col(CredentialRow.withdrawn_at).is_(None),
        col(CredentialRow.disabled_at).is_(None),
        col(CredentialRow.expires_at).is_(None) | (col(CredentialRow.expires_at) > now),
        col(CredentialRow.starts_at).is_(None) | (col(CredentialRow.starts_at) <= now),
    )


class AssertionSeenRow(SQLModel, table=True):
    """Assertions and proofs of possession of a client, by the digest of their id, until they would run out anyway."""

    __tablename__ = "assertion_seen"
    __table_args__ = (Index("assertion_seen_by_end", "expires_at"),)

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    digest: bytes = blob(primary_key=True)
    expires_at: datetime = moment()


def first_seen(session: Session, client_id: str, digest: bytes, ends: datetime) -> bool:
    """Note that something of a client came, which must not come twice; tell whether it is the first time. Commits."""
    seen = insert(AssertionSeenRow).values(client_id=client_id, digest=digest, expires_at=ends)
    first = session.execute(seen.on_conflict_do_nothing().returning(sa.literal(1))).first() is not None
    session.commit()
    return first


class DeviceRequestRow(SQLModel, table=True):
    """A device that waits for a person's yes. Only digests of its codes are kept."""

    __tablename__ = "device_request"
    __table_args__ = (
        UniqueConstraint("device_digest", name="device_code"),
        UniqueConstraint("user_digest", name="user_code"),
        Index("device_request_by_end", "expires_at"),
        Index("device_request_of_person", "person_id"),
    )

    id: UUID = Field(primary_key=True)
    directory_id: UUID = Field(foreign_key="directory.id")
    client_id: str = Field(foreign_key="client.id", sa_type=Text)
    device_digest: bytes = blob()
    user_digest: bytes = blob()
    state: str = Field(sa_type=Text)
    created_at: datetime = moment()
    expires_at: datetime = moment()
    polled_at: datetime | None = moment(nullable=True)
    interval_seconds: int = 5
    person_id: UUID | None = Field(default=None, foreign_key="person.id")
    # While the person stays signed in with it; set when they sign out.
    ended_at: datetime | None = moment(nullable=True)
    # What the device asks for (as `core.authorization.requests.Wanted` is kept), and what was allowed; of the command
    # line neither: it signs a person in to Jamb's own API.
    request: dict[str, Any] | None = document(nullable=True)
    authorization_id: UUID | None = Field(
        default=None, sa_column=Column(ForeignKey("person_authorization.id", ondelete="SET NULL"), nullable=True)
    )


def seen_by(
    session: Session, directory_id: UUID, ids: Iterable[str], now: datetime, until: datetime | None
) -> set[str]:
    """Return the clients that have a credential which one of these has seen, and which works now and at a later moment
    (None: for good)."""
    endless = col(CredentialRow.expires_at).is_(None)
    rows = session.execute(
        sa.select(col(CredentialRow.client_id))
        .join(ClientRow, col(ClientRow.id) == col(CredentialRow.client_id))
        .where(
            among(CredentialRow.seen_by_id, ids),
            works(now),
            col(CredentialRow.directory_id) == directory_id,
            col(ClientRow.state) != "removed",
            endless if until is None else endless | (col(CredentialRow.expires_at) >= until),
        )
    )
    return {key for (key,) in rows}


def seen(session: Session, directory_id: UUID, now: datetime) -> list[tuple[str, UUID, str]]:
    """Return (client, credential, who has seen it) for each credential of a directory that works."""
    rows = session.execute(
        sa.select(col(CredentialRow.client_id), col(CredentialRow.id), col(CredentialRow.seen_by_id))
        .join(ClientRow, col(ClientRow.id) == col(CredentialRow.client_id))
        .where(
            col(CredentialRow.seen_by_id) != "",
            works(now),
            col(CredentialRow.directory_id) == directory_id,
            col(ClientRow.state) == "live",
        )
    )
    return [(client_id, key, by) for client_id, key, by in rows]


def by_ids(session: Session, credential_ids: Iterable[UUID]) -> list[CredentialRow]:
    return list(session.scalars(sa.select(CredentialRow).where(among_ids(CredentialRow.id, credential_ids))))


def credentials_of(session: Session, client_ids: Iterable[str]) -> list[CredentialRow]:
    """Newest first."""
    return list(session.scalars(_of_clients(), {"clients": list(client_ids)}))


@cache
def _of_clients() -> sa.Select[CredentialRow]:
    mine = sa.select(CredentialRow).where(one_of(CredentialRow.client_id, "clients"))
    return mine.order_by(col(CredentialRow.issued_at).desc())


def holding_keys(
    session: Session, directory_id: UUID, thumbprints: Iterable[str], now: datetime
) -> list[tuple[CredentialRow, str]]:
    """Return the credentials that stand in a directory with any of these keys, each with its client's name."""
    overlapping = col(CredentialRow.key_thumbprints).op("&&")(sa.bindparam(None, list(thumbprints), ARRAY(Text)))
    rows = session.exec(
        select(CredentialRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == CredentialRow.client_id)
        .where(CredentialRow.directory_id == directory_id, overlapping, col(CredentialRow.withdrawn_at).is_(None))
    )
    return [(row, name) for row, name in rows if row.stands(now)]


def by_fingerprints(
    session: Session, directory_id: UUID, fingerprints: Iterable[bytes]
) -> list[tuple[CredentialRow, str]]:
    """Return the secrets of a directory with these fingerprints, each with its client's name."""
    wanted = sa.any_(sa.bindparam(None, list(fingerprints), ARRAY(LargeBinary)))
    rows = session.exec(
        select(CredentialRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == CredentialRow.client_id)
        .where(CredentialRow.directory_id == directory_id, col(CredentialRow.fingerprint) == wanted)
    )
    return [(row, name) for row, name in rows]


def trusting(
    session: Session, directory_id: UUID, issuer: str, subject: str, now: datetime
) -> list[tuple[CredentialRow, str]]:
    """Return the credentials that stand in a directory for a subject of an outside issuer, with the clients' names."""
    rows = session.exec(
        select(CredentialRow, ClientRow.name)
        .join(ClientRow, col(ClientRow.id) == CredentialRow.client_id)
        .where(
            CredentialRow.directory_id == directory_id,
            CredentialRow.issuer == issuer,
            CredentialRow.subject == subject,
            col(CredentialRow.withdrawn_at).is_(None),
        )
    )
    return [(row, name) for row, name in rows if row.stands(now)]


def device_by_digest(
    session: Session, directory_id: UUID, *, device: bytes | None = None, user: bytes | None = None
) -> DeviceRequestRow | None:
    """Find by either code's digest and lock it, so that two processes never answer it twice."""
    statement = select(DeviceRequestRow).where(DeviceRequestRow.directory_id == directory_id).with_for_update()
    if device is not None:
        statement = statement.where(DeviceRequestRow.device_digest == device)
    if user is not None:
        statement = statement.where(DeviceRequestRow.user_digest == user)
    return session.exec(statement).first()


def command_lines(session: Session, person_id: UUID, served: str, since: datetime) -> list[DeviceRequestRow]:
    """Return the sign-ins of a person at the command line that were begun since and not ended, newest first."""
    return list(
        session.exec(
            select(DeviceRequestRow)
            .where(
                DeviceRequestRow.person_id == person_id,
                DeviceRequestRow.state == served,
                col(DeviceRequestRow.ended_at).is_(None),
                # Others ask for something: the person sees them among their applications.
                col(DeviceRequestRow.request).is_(None),
                col(DeviceRequestRow.created_at) > since,
            )
            .order_by(col(DeviceRequestRow.created_at).desc())
        )
    )


def end_sign_ins(
    session: Session, person_id: UUID, now: datetime, by: str = "a new password, or the person was made inactive"
) -> None:
    """End every sign-in of a person with a device, every yes that no device has fetched yet, and what came of sign-ins.

    What they consented to stays: an application only has to sign them in again.
    """
    session.execute(
        sa.update(DeviceRequestRow)
        .where(col(DeviceRequestRow.person_id) == person_id, col(DeviceRequestRow.ended_at).is_(None))
        .values(ended_at=now)
        .execution_options(synchronize_session=False)
    )
    authorizations.end_of_person(session, person_id, by, now)


def by_digest(session: Session, digest: bytes) -> CredentialRow | None:
    """Return the secret of a digest, whosever it is."""
    return session.exec(select(CredentialRow).where(CredentialRow.digest == digest)).first()
