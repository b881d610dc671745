"""Public addresses: that by which the world reaches the service, and former ones that hold for a time."""

from __future__ import annotations

from datetime import datetime

from sqlalchemy import Text
from sqlmodel import Field, Session, SQLModel, col, select

from jamb.core import own_api
from jamb.store.base.columns import moment
from jamb.store.directory.directories import DirectoryRow
from jamb.store.resources.resources import ResourceRow


class FormerAddressRow(SQLModel, table=True):
    """An address that the service had. `until`: so long what was made for it holds."""

    __tablename__ = "former_address"

    url: str = Field(primary_key=True, sa_type=Text)
    until: datetime = moment(index=True)


def former_addresses(session: Session, now: datetime) -> tuple[tuple[str, datetime], ...]:
    statement = select(FormerAddressRow.url, FormerAddressRow.until).where(col(FormerAddressRow.until) > now)
    return tuple((url, until) for url, until in session.exec(statement.order_by(col(FormerAddressRow.until).desc())))


def keep_former(session: Session, url: str, until: datetime) -> None:
    session.merge(FormerAddressRow(url=url, until=until))


def forget_former(session: Session, url: str) -> None:
    """An address that is moved to again is none of the former ones."""
    row = session.get(FormerAddressRow, url)
    if row is not None:
        session.delete(row)


def addresses_on_record(session: Session) -> dict[str, str]:
    """Return the address of each directory: the identifier of Jamb's own API there begins with it."""
    statement = (
        select(DirectoryRow.slug, ResourceRow.identifier)
        .join(ResourceRow, col(ResourceRow.directory_id) == col(DirectoryRow.id))
        .where(col(ResourceRow.name) == own_api.NAME)
        .order_by(col(DirectoryRow.slug))
    )
    return {slug: address_in(identifier, slug) for slug, identifier in session.exec(statement)}


def address_in(identifier: str, slug: str) -> str:
    """Return the address in the identifier of Jamb's own API in a directory."""
    return identifier.removesuffix(f"/api/v1/directories/{slug}")
