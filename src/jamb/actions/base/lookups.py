"""Find what a call names, or say what there is; load and note what many acts need."""

from __future__ import annotations

from collections.abc import Collection
from datetime import datetime, timedelta
from uuid import UUID

from sqlmodel import Session

from jamb.core import own_api
from jamb.core.access import HeldGrant
from jamb.core.addresses import without_root
from jamb.core.audit.excess import held_weight
from jamb.core.clients.clients import ClientState
from jamb.core.directory.directories import Directory
from jamb.core.errors import NotFound, StillInUse, Suspended, Unsuited
from jamb.core.nearest_names import did_you_mean, listed
from jamb.core.reach import EVERYWHERE, Reach
from jamb.store.audit import client_facts as pictures
from jamb.store.base.work import Unit
from jamb.store.clients import clients
from jamb.store.directory import directories, roles
from jamb.store.directory.people import PersonRow
from jamb.store.resources import resources

MOST_COLLECTIONS = 100


def find_directory(session: Session, slug: str) -> Directory:
    row = directories.by_slug(session, slug)
    if row is None:
        raise NotFound(f"There is no directory “{slug[:40]}” here.", next_step="Check the directory's short name.")
    return row.value()


def refuse_suspended(directory: Directory) -> None:
    """Raise `Suspended` where the directory is: nobody signs in, and nothing is administered."""
    if directory.suspended:
        raise Suspended(
            f"{directory.name} is suspended by whoever runs this service.", next_step="Ask them when it is resumed."
        )


def find_client(session: Session, directory: Directory, client_id: str, *, lock: bool = False) -> clients.ClientRow:
    return check_live(directory, client_id, clients.by_id(session, directory.id, client_id, lock=lock))


def check_live(directory: Directory, client_id: str, row: clients.ClientRow | None) -> clients.ClientRow:
    """Return the row that was found for a client's id. Raises `NotFound` where there is none, or it was removed."""
    if row is None or row.builtin:
        raise NotFound(
            f"{directory.name} has no client “{client_id[:40]}”.", next_step="List the clients to find the right id."
        )
    if row.state == ClientState.REMOVED:
        raise NotFound(f"“{row.name}” was removed.", next_step="Restore it, if its time is not over.")
    return row


def find_resource(session: Session, directory: Directory, name: str, *, lock: bool = False) -> resources.ResourceRow:
    row = resources.by_name(session, directory.id, without_root(name), lock=lock)
    if row is None:
        known = [resource.name for resource in resources.resources_of(session, directory.id)]
        step = did_you_mean(name, known, f"It has {listed(known)}.")
        raise NotFound(f"{directory.name} has no resource “{name[:80]}”.", next_step=step)
    return row


def load_one(session: Session, directory: Directory, row: clients.ClientRow, now: datetime) -> pictures.LoadedClient:
    return pictures.load(session, directory.id, directory.policy, now, [row.id])[0]


def weights_of(session: Session, client_ids: Collection[str], now: datetime) -> dict[str, float]:
    """Return the weight of all that each of these clients may do as itself, by consent and by roles."""
    held: dict[str, dict[UUID, list[HeldGrant]]] = {key: {} for key in client_ids}
    for client_id, grants in clients.held_grants(session, client_ids).items():
        for key, grant in grants:
            held[client_id].setdefault(key, []).append(grant)
    for client_id, by_role in roles.roles_of_clients(session, client_ids).items():
        for key in {role.resource_id for _, role in by_role}:
            held[client_id].setdefault(key, []).extend(pictures.held_at(key, (), by_role))
    wanted = {key for places in held.values() for key in places}
    rows = [session.get_one(resources.ResourceRow, key) for key in sorted(wanted)]
    catalogues = resources.catalogues(session, rows) if rows else {}
    return {
        client_id: sum(held_weight(catalogues[key], grants, now) for key, grants in places.items())
        for client_id, places in held.items()
    }


def note_narrowed(unit: Unit, client: clients.ClientRow) -> datetime:
    """Note on a client that something is taken away from it; return the moment that counts for that.

    Tokens say when they were made in whole seconds, and one made in the second of such a moment says the next second.
    So two moments of one client never lie in one second: the later one counts as of the next.
    """
    moment = unit.now
    if client.narrowed_at is not None and client.narrowed_at.replace(microsecond=0) >= moment.replace(microsecond=0):
        moment = client.narrowed_at.replace(microsecond=0) + timedelta(seconds=1)
    client.narrowed_at = moment
    unit.session.add(client)
    unit.narrowed.add(client.id)
    return moment


def stewards_who_sign_in(session: Session, directory: Directory, now: datetime) -> list[PersonRow]:
    """Return the active people who can sign in and are steward, everywhere and without end."""
    row = roles.role_by_name(session, directory.id, own_api.STEWARD)
    if row is None:
        return []
    endless = [
        holder
        for holder in roles.holders_of(session, [row.id], now)
        if holder.held.reach is None and holder.held.expires_at is None
    ]
    groups = roles.people_within(session, [one.group.id for one in endless if one.group is not None])
    stewards = [one.person for one in endless if one.person is not None]
    stewards += [person for members in groups.values() for person in members]
    return [person for person in stewards if person.active and person.password_hash]


def refuse_stewardless(session: Session, directory: Directory, now: datetime) -> None:
    """Raise `StillInUse` unless an active person who can sign in is steward, everywhere and without end.

    Called when all is flushed. The lock has two who take different stewards away come one after the other, and the
    later see what the earlier left.
    """
    if roles.role_by_name(session, directory.id, own_api.STEWARD, lock=True) is None:
        return
    if not stewards_who_sign_in(session, directory, now):
        raise StillInUse(
            f"{directory.name} would be left without a steward.",
            next_step="Make another person steward first: live, able to sign in, everywhere and without an end.",
        )


def check_reach(session: Session, resource: resources.ResourceRow, reach: Reach) -> None:
    """Raise `BadInput` unless the reach names collections of this resource, and not too many for a token."""
    if reach == EVERYWHERE:
        return
    if not resource.object_name:
        raise Unsuited.field(
            "reach", reach.words, f"everywhere: {resource.name} has no objects to reach", "Leave the reach out."
        )
    if len(reach.collections) > MOST_COLLECTIONS:
        allowed = f"at most {MOST_COLLECTIONS} collections"
        raise Unsuited.field("reach", f"{len(reach.collections)} collections", allowed, "Put them into a wider one.")
    if resource.name == own_api.NAME:
        # Jamb's own objects are the clients, and each lies in a collection of its own.
        unknown = sorted(reach.collections - clients.known(session, resource.directory_id, reach.collections))
        if unknown:
            raise Unsuited.field("reach.collections", ", ".join(unknown), "ids of clients of this directory")
        return
    resources.collections_of(session, resource.id).require("reach.collections", sorted(reach.collections))
