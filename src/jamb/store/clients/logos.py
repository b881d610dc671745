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
from jamb.store.clients.clients import MOST_ALIKE, ClientRow, first_named
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
    return first_named(session.execute(_alike(), {"clients": list(client_ids)}))


@cache
def _alike() -> sa.Select[Any]:
    """Return the statement of `alike`. Each look is compared once: a house may have one logo for all its clients."""
    mine, other = (ClientRow.__table__.alias() for _ in range(2))  # type: ignore[attr-defined]
    seen, held = (LogoRow.__table__.alias() for _ in range(2))  # type: ignore[attr-defined]
    looks = (
        sa.select(seen.c.directory_id, seen.c.look, seen.c.bands)
        .where(one_of(seen.c.client_id, "clients"))
        .distinct()
        .cte("looks")
    )
    different = sa.func.bit_count(sa.cast(looks.c.look.op("#")(held.c.look), BIT(64)))
    order = (other.c.registered_at, other.c.id)
    place = sa.func.row_number().over(partition_by=(looks.c.look, other.c.publisher), order_by=order)
    near = (
        sa.select(looks.c.look, other.c.publisher, other.c.name, *order, place.label("place"))
        .join(held, sa.and_(held.c.directory_id == looks.c.directory_id, held.c.bands.op("&&")(looks.c.bands)))
        .join(other, other.c.id == held.c.client_id)
        .where(different <= MOST_DIFFERENT, other.c.state != "removed")
        .cte("near")
    )
    # The first of each publisher: of other publishers, however many of one's own stand before them.
    before = sa.tuple_(near.c.registered_at, near.c.id) < sa.tuple_(mine.c.registered_at, mine.c.id)
    return (
        sa.select(mine.c.id, near.c.name)
        .join(seen, seen.c.client_id == mine.c.id)
        .join(near, near.c.look == seen.c.look)
        .where(
            one_of(mine.c.id, "clients"),
            mine.c.state != "removed",
            near.c.publisher != mine.c.publisher,
            near.c.place <= MOST_ALIKE + 1,
            before,
        )
        .order_by(mine.c.id, near.c.registered_at, near.c.id)
    )
