"""Reach with the facts from the store: is it fit for a resource, where does an object lie, what can a client touch."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.core.access import ClientStanding, Decision, HeldGrant, ObjectFacts, Request, decide
from jamb.core.clients.clients import ClientState
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import Collection, Coverage, coverage
from jamb.store.audit import client_facts as pictures
from jamb.store.clients import clients
from jamb.store.directory import roles
from jamb.store.resources import resources
from jamb.wire.resources.reach import ReachOperation


def facts_of(session: Session, resource: resources.ResourceRow, name: str | None) -> ObjectFacts | None:
    """Return the object with the collections that it lies in; None where none is named."""
    if name is None:
        return None
    return ObjectFacts(name, resources.collections_of(session, resource.id).where(name))


@dataclass(frozen=True, slots=True)
class SheetLine:
    """One collection on a proof sheet: how much of it one operation can touch."""

    path: str
    title: str
    objects: int
    touched: int

    @property
    def verdict(self) -> str:
        if self.touched == 0:
            return "no"
        return "yes" if self.touched == self.objects else "in part"


@dataclass(frozen=True, slots=True)
class ReachSheet:
    """What a client can and cannot touch at one resource, acting as itself, at one moment."""

    client_id: str
    client_name: str
    live: bool
    resource: str
    title: str
    object_name: str
    at: datetime
    object: ObjectFacts | None
    operations: tuple[ReachOperation, ...]
    # With an object: the decision on each operation that names one.
    decisions: tuple[tuple[str, Decision], ...]


def read_reach(act: Act, client_id: str, resource_name: str, object_name: str | None) -> ReachSheet:
    """Prove what a client can touch at a resource: all collections, or one object."""
    with act.read() as session:
        client = find_client(session, act.directory, client_id)
        resource = find_resource(session, act.directory, resource_name)
        catalogue = resources.catalogues(session, [resource])[resource.id]
        tree = resources.collections_of(session, resource.id)
        by_role = roles.roles_of_clients(session, [client.id]).get(client.id, [])
        held = pictures.held_at(resource.id, clients.grants_of(session, [client.id]), by_role)
        live = client.state == ClientState.LIVE
        standing = ClientStanding(client.id, client.name, live, grants=tuple(held))
        in_force = [one for one in held if one.kind is AccessKind.APPLICATION and one.in_force(act.now)]
        found = ObjectFacts(object_name, tree.where(object_name)) if object_name is not None else None
        operations = []
        for name in sorted(catalogue.operations):
            opening = [one for one in in_force if name in catalogue.opened_by(one.permission)]
            whole = coverage(tree, [one.reach for one in opening])
            why = "; ".join(sorted({_in_words(one) for one in opening})) or "nothing that it holds opens this"
            lines = None
            if catalogue.concerns_object(name):
                lines = tuple(_line(one, tree.members(path), whole) for path, one in tree.collections.items())
            operation = catalogue.operations[name]
            possible = live and bool(opening)
            operations.append(
                ReachOperation(
                    operation=name,
                    title=operation.title,
                    effect=operation.effect,
                    lines=lines,
                    possible=possible,
                    uncollected=whole.uncollected,
                    why=why,
                )
            )
        decisions = tuple(_decisions(catalogue, standing, found, act.now)) if found is not None else ()
        return ReachSheet(
            client.id,
            client.name,
            live,
            resource.name,
            resource.title,
            resource.object_name,
            act.now,
            found,
            tuple(operations),
            decisions,
        )


def _line(one: Collection, members: frozenset[str], whole: Coverage) -> SheetLine:
    return SheetLine(one.path, one.title, len(members), len(members & whole.objects))


def _in_words(grant: HeldGrant) -> str:
    return f"{grant.permission} {grant.reach.words}" + (f" through {grant.through}" if grant.through else "")


def _decisions(
    catalogue: Catalogue, standing: ClientStanding, found: ObjectFacts, now: datetime
) -> list[tuple[str, Decision]]:
    return [
        (name, decide(catalogue, standing, Request(name, AccessKind.APPLICATION, object=found), now))
        for name in sorted(catalogue.operations)
        if catalogue.concerns_object(name)
    ]
