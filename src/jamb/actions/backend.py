"""Where actions work: the database, the keys and the addresses by which the world knows this service."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import datetime, timedelta

from sqlalchemy import Engine
from sqlmodel import Session

from jamb.actions.hashing import Hashing
from jamb.core import own_api
from jamb.core.clients import ClientState
from jamb.core.directories import Directory
from jamb.core.errors import NotFound, StillInUse
from jamb.store import clients, directories, pictures, resources, roles
from jamb.store.sealing import Sealer


@dataclass(frozen=True, slots=True)
class Backend:
    """Built once by the composition root and handed down. `base_url` has no slash at its end."""

    engine: Engine
    sealer: Sealer
    base_url: str
    hashing: Hashing = field(default_factory=Hashing)

    def issuer(self, slug: str) -> str:
        return f"{self.base_url}/d/{slug}"

    def token_endpoint(self, slug: str) -> str:
        return f"{self.issuer(slug)}/token"

    def own_identifier(self, slug: str) -> str:
        """The audience of Jamb's own API for one directory."""
        return f"{self.base_url}/api/v1/directories/{slug}"


def console_client_id(slug: str) -> str:
    return f"jamb-console.{slug}"


def command_line_client_id(slug: str) -> str:
    return f"jamb-command-line.{slug}"


def find_directory(session: Session, slug: str) -> Directory:
    row = directories.by_slug(session, slug)
    if row is None:
        raise NotFound(f"There is no directory “{slug[:40]}” here.", next_step="Check the directory's short name.")
    return row.value()


def find_client(session: Session, directory: Directory, client_id: str, *, lock: bool = False) -> clients.ClientRow:
    row = clients.by_id(session, directory.id, client_id, lock=lock)
    if row is None or row.builtin:
        raise NotFound(
            f"{directory.name} has no client “{client_id[:40]}”.", next_step="List the clients to find the right id."
        )
    if row.state == ClientState.REMOVED:
        raise NotFound(f"“{row.name}” was removed.", next_step="Restore it, if its time is not over.")
    return row


def find_resource(session: Session, directory: Directory, name: str, *, lock: bool = False) -> resources.ResourceRow:
    row = resources.by_name(session, directory.id, name, lock=lock)
    if row is None:
        known = ", ".join(resource.name for resource in resources.resources_of(session, directory.id))
        raise NotFound(f"{directory.name} has no resource “{name[:80]}”.", next_step=f"It has {known}.")
    return row


def load_one(session: Session, directory: Directory, row: clients.ClientRow, now: datetime) -> pictures.LoadedClient:
    return pictures.load(session, directory.id, directory.policy, now, [row.id])[0]


def note_narrowed(session: Session, client: clients.ClientRow, now: datetime) -> datetime:
    """Note on a client that something is taken away from it; return the moment that counts for that.

    Tokens say when they were made in whole seconds, and one made in the second of such a moment says the next second.
    So two moments of one client never lie in one second: the later one counts as of the next.
    """
    moment = now
    if client.narrowed_at is not None and client.narrowed_at.replace(microsecond=0) >= now.replace(microsecond=0):
        moment = client.narrowed_at.replace(microsecond=0) + timedelta(seconds=1)
    client.narrowed_at = moment
    session.add(client)
    return moment


def refuse_stewardless(session: Session, directory: Directory, now: datetime) -> None:
    """Raise `StillInUse` unless a live person who can sign in is steward, everywhere and without end."""
    row = roles.role_by_name(session, directory.id, own_api.STEWARD)
    if row is None:
        return
    endless = [
        one
        for one in roles.holders_of(session, [row.id], now)
        if one.held.reach is None and one.held.expires_at is None
    ]
    groups = roles.people_within(session, [one.group.id for one in endless if one.group is not None])
    stewards = [one.person for one in endless if one.person is not None]
    stewards += [person for members in groups.values() for person in members]
    if not any(person.active and person.password_hash for person in stewards):
        raise StillInUse(
            f"{directory.name} would be left without a steward.",
            next_step="Make another person steward first: live, able to sign in, everywhere and without an end.",
        )
