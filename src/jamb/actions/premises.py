"""Where actions work: the database, the keys and the addresses by which the world knows this service."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime
from uuid import UUID

from sqlalchemy import Engine
from sqlmodel import Session

from jamb.core.errors import NotFound
from jamb.core.policy import DirectoryPolicy
from jamb.store import clients, directories, pictures, resources
from jamb.store.sealing import Sealer


@dataclass(frozen=True, slots=True)
class Premises:
    """Built once by the composition root and handed down. `base_url` has no slash at its end."""

    engine: Engine
    sealer: Sealer
    base_url: str

    def issuer(self, slug: str) -> str:
        return f"{self.base_url}/d/{slug}"

    def token_endpoint(self, slug: str) -> str:
        return f"{self.issuer(slug)}/token"

    def own_identifier(self, slug: str) -> str:
        """The audience of Jamb's own API for one directory."""
        return f"{self.base_url}/api/v1/directories/{slug}"


@dataclass(frozen=True, slots=True)
class Directory:
    """A directory as actions see it."""

    id: UUID
    slug: str
    name: str
    domain: str
    policy: DirectoryPolicy


def console_client_id(slug: str) -> str:
    return f"jamb-console.{slug}"


def command_line_client_id(slug: str) -> str:
    return f"jamb-command-line.{slug}"


def find_directory(session: Session, slug: str) -> Directory:
    row = directories.by_slug(session, slug)
    if row is None:
        raise NotFound(f"There is no directory “{slug[:40]}” here.", next_step="Check the directory's short name.")
    return Directory(row.id, row.slug, row.name, row.domain, row.bounds())


def find_client(session: Session, directory: Directory, client_id: str, *, lock: bool = False) -> clients.ClientRow:
    row = clients.by_id(session, directory.id, client_id, lock=lock)
    if row is None or row.builtin:
        raise NotFound(
            f"{directory.name} has no client “{client_id[:40]}”.", next_step="List the clients to find the right id."
        )
    return row


def find_resource(session: Session, directory: Directory, name: str) -> resources.ResourceRow:
    row = resources.by_name(session, directory.id, name)
    if row is None:
        known = ", ".join(resource.name for resource in resources.resources_of(session, directory.id))
        raise NotFound(f"{directory.name} has no resource “{name[:80]}”.", next_step=f"It has {known}.")
    return row


def load_one(session: Session, directory: Directory, row: clients.ClientRow, now: datetime) -> pictures.LoadedClient:
    return pictures.load(session, directory.id, directory.policy, now, [row.id])[0]
