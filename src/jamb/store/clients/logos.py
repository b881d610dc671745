"""Logos of clients, and which of them look alike."""

from __future__ import annotations

from collections.abc import Iterable
from functools import cache
from typing import Any
from uuid import UUID

import sqlalchemy as sa
from sqlalchemy import BigInteger, Column, ForeignKey, Index, Text
from sqlalchemy.dialects.postgresql import BIT
from sqlmodel import Field, Session, SQLModel, col

from jamb.core.clients.logos import MOST_DIFFERENT, bands_of
from jamb.store.base.columns import blob, one_of, parameter, words
from jamb.store.clients.clients import MOST_ALIKE, ClientRow
from jamb.store.directory.directories import DirectoryRow


class LogoRow(SQLModel, table=True):
    """The picture whose digest a client's record has. `bands`: quarters of its look; none of one that has none."""

    __tablename__ = "client_logo"
    __table_args__ = (
        Index("client_logo_by_digest", "directory_id", "digest"),
        Index("client_logo_by_look", "bands", postgresql_using="gin"),
    )

    client_id: str = Field(sa_column=Column(Text, ForeignKey("client.id"), primary_key=True))
    directory_id: UUID = Field(foreign_key="directory.id")
    digest: str = Field(sa_type=Text)
    look: int = Field(sa_type=BigInteger)
    bands: list[str] = words()
    image: bytes = blob()


def put(session: Session, client: ClientRow, digest: str, look: int, image: bytes) -> None:
    """Put a picture in place of a client's, within a unit. Its record must have the same digest."""
    session.merge(
        LogoRow(
            client_id=client.id,
            directory_id=client.directory_id,
            digest=digest,
            look=look,
            bands=bands_of(look) if look else [],
            image=image,
        )
    )


def drop(session: Session, client_id: str) -> None:
    session.execute(sa.delete(LogoRow).where(col(LogoRow.client_id) == client_id))


def image_of(session: Session, slug: str, digest: str) -> bytes | None:
    found = session.execute(_image(), {"slug": slug, "digest": digest}).first()
    return None if found is None else bytes(found[0])


@cache
def _image() -> sa.Select[Any]:
    return (
        sa.select(col(LogoRow.image))
        .join(DirectoryRow, col(DirectoryRow.id) == col(LogoRow.directory_id))
        .where(
            col(DirectoryRow.slug) == parameter("slug", Text),
            col(LogoRow.digest) == parameter("digest", Text),
        )
        .limit(1)
    )


def alike(session: Session, client_ids: Iterable[str]) -> dict[str, tuple[str, ...]]:
    """Return the names of clients of other publishers, registered before each of these, whose logos look like its own.

    Of many the first, and one more that is not named: "…".
    """
    found: dict[str, tuple[str, ...]] = {}
    for client_id, name in session.execute(_alike(), {"clients": list(client_ids)}):
        held = found.get(client_id, ())
        found[client_id] = (*held, name if len(held) < MOST_ALIKE else "…")
    return found


@cache
def _alike() -> sa.Select[Any]:
    mine, other = (ClientRow.__table__.alias() for _ in range(2))  # type: ignore[attr-defined]
    seen, held = (LogoRow.__table__.alias() for _ in range(2))  # type: ignore[attr-defined]
    different = sa.func.bit_count(sa.cast(seen.c.look.op("#")(held.c.look), BIT(64)))
    first = (
        sa.select(other.c.name, other.c.registered_at, other.c.id)
        .join(held, held.c.client_id == other.c.id)
        .where(
            held.c.directory_id == seen.c.directory_id,
            held.c.bands.op("&&")(seen.c.bands),
            different <= MOST_DIFFERENT,
            other.c.publisher != mine.c.publisher,
            other.c.state != "removed",
            sa.tuple_(other.c.registered_at, other.c.id) < sa.tuple_(mine.c.registered_at, mine.c.id),
        )
        .order_by(other.c.registered_at, other.c.id)
        .limit(MOST_ALIKE + 1)
        .lateral()
    )
    return (
        sa.select(mine.c.id, first.c.name)
        .join(seen, seen.c.client_id == mine.c.id)
        .join(first, sa.true())
        .where(one_of(mine.c.id, "clients"), mine.c.state != "removed")
        .order_by(mine.c.id, first.c.registered_at, first.c.id)
    )
