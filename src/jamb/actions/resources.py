"""Resources: publish a catalogue, read it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from uuid import uuid4

from sqlmodel import Session

from jamb.actions.premises import Directory, Premises, find_client, find_directory, find_resource
from jamb.core.errors import BadInput, NameTaken, Violation
from jamb.core.permissions import AccessKind, Catalogue, Proposal, smallest
from jamb.store import clients, resources
from jamb.store.work import Actor, unit_of_work


@dataclass(frozen=True, slots=True)
class PublishedResource:
    name: str
    title: str
    identifier: str
    catalogue: Catalogue


def publish(
    premises: Premises,
    directory: Directory,
    catalogue: Catalogue,
    actor: Actor,
    now: datetime,
    *,
    guard_client_id: str | None = None,
) -> None:
    """Publish a resource. `guard_client_id` names the client whose reports of use are believed."""
    with unit_of_work(premises.engine, premises.sealer, directory.id) as unit:
        row = resources.ResourceRow(
            id=uuid4(),
            directory_id=directory.id,
            name=catalogue.name,
            title=catalogue.title,
            identifier=catalogue.identifier,
            guard_client_id=guard_client_id,
        )
        with unit.constraint("resource_name_taken", lambda: _taken(catalogue.name)):
            unit.session.add(row)
        resources.add_catalogue(unit.session, row.id, catalogue)
        unit.enter(
            actor,
            "resource.published",
            {"kind": "resource", "id": str(row.id), "name": catalogue.name},
            now=now,
            after={
                "identifier": catalogue.identifier,
                "operations": sorted(catalogue.operations),
                "permissions": sorted(catalogue.permissions),
            },
        )


def list_resources(premises: Premises, slug: str) -> list[PublishedResource]:
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        rows = resources.resources_of(session, directory.id)
        found = resources.catalogues(session, rows)
        return [PublishedResource(row.name, row.title, row.identifier, found[row.id]) for row in rows]


def read_resource(premises: Premises, slug: str, name: str) -> PublishedResource:
    with Session(premises.engine) as session:
        row = find_resource(session, find_directory(session, slug), name)
        return PublishedResource(row.name, row.title, row.identifier, resources.catalogues(session, [row])[row.id])


@dataclass(frozen=True, slots=True)
class ProposedPermissions:
    catalogue: Catalogue
    needed: tuple[str, ...]
    held: tuple[str, ...]
    proposal: Proposal


def propose(
    premises: Premises,
    slug: str,
    name: str,
    needed: Sequence[str],
    kind: AccessKind,
    client_id: str | None,
) -> ProposedPermissions:
    """Return the smallest permissions for operations of a resource, beside what a client asks or holds already.

    Raises:
        BadInput: an operation that the resource does not have.
    """
    with Session(premises.engine) as session:
        directory = find_directory(session, slug)
        row = find_resource(session, directory, name)
        catalogue = resources.catalogues(session, [row])[row.id]
        unknown = [one for one in needed if one not in catalogue.operations]
        if unknown:
            allowed = f"operations of {catalogue.name}: {', '.join(sorted(catalogue.operations)[:12])}"
            raise BadInput.field("operation", ", ".join(unknown), allowed, "Look through the catalogue.")
        held: set[str] = set()
        if client_id is not None:
            client = find_client(session, directory, client_id)
            mine: list[clients.AskRow | clients.GrantRow] = [*clients.asks_of(session, [client.id])]
            mine += clients.grants_of(session, [client.id])
            held = {one.permission for one in mine if one.resource_id == row.id and one.kind == kind}
        proposal = smallest(catalogue, needed, kind, held)
        return ProposedPermissions(catalogue, tuple(sorted(set(needed))), tuple(sorted(held)), proposal)


def _taken(name: str) -> NameTaken:
    return NameTaken(
        f"There is already a resource “{name}”.", violations=(Violation("name", name, "a name not in use"),)
    )
