"""What is read to let a caller into Jamb's own API."""

from __future__ import annotations

from uuid import UUID

from sqlmodel import Session, col, select

from jamb.store.clients.clients import ClientRow
from jamb.store.resources.resources import ResourceRow


def at_resource(
    session: Session, directory_id: UUID, client_id: str, resource_name: str
) -> tuple[ClientRow, ResourceRow] | None:
    """Return a client of a directory beside one of its resources."""
    row = session.exec(
        select(ClientRow, ResourceRow)
        .join(ResourceRow, col(ResourceRow.directory_id) == ClientRow.directory_id)
        .where(ClientRow.id == client_id, ClientRow.directory_id == directory_id, ResourceRow.name == resource_name)
    ).first()
    return None if row is None else (row[0], row[1])
