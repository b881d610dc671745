"""Resources: publish a catalogue, change it after seeing whom that affects, read it, draft one from a description."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import find_client, find_resource
from jamb.actions.judgement.judging import agreed_by, earlier, note_addition, take_turn, try_waiting
from jamb.actions.judgement.powers import Bench
from jamb.core import own_api
from jamb.core.access import Comparison, Holding, across, holdings_in_force
from jamb.core.access.compare import refilled
from jamb.core.addresses import UnfitAddress, read_address, split, without_root
from jamb.core.consent.agreements import ActKind, Proposal, agreeing
from jamb.core.errors import BadInput, NameTaken, NeedsAgreement, NotFound, StillInUse, Unsuited, Violation, shorten
from jamb.core.nearest_names import as_written, did_you_mean, listed
from jamb.core.openapi import operations_of, permissions_of
from jamb.core.permissions import (
    AccessKind,
    Catalogue,
    DataClass,
    Operation,
    Permission,
    kept_within,
    smallest,
    weigh_operation,
)
from jamb.core.permissions import Proposal as ProposedSet
from jamb.core.reach import CollectionTree, Reach
from jamb.core.reach import kept_within as kept_within_reach
from jamb.store.audit import client_facts as pictures
from jamb.store.base.work import Actor, Unit, keep_waiting
from jamb.store.clients import clients
from jamb.store.consent import requests
from jamb.store.directory import roles
from jamb.store.resources import earlier_catalogues, resources
from jamb.wire.resources import reach as reach_wire
from jamb.wire.resources import resources as wire

RESOURCE_NAME = re.compile(r"[a-z][a-z0-9]*(?:-[a-z0-9]+)*\Z")
NAME_LONGEST = 40


@dataclass(frozen=True, slots=True)
class PublishedResource:
    name: str
    title: str
    identifier: str
    catalogue: Catalogue
    questions: tuple[str, ...]
    terms: str
    guard_client_id: str | None
    collections: int
    address: str
    uncounted_since: datetime | None
    uncounted_until: datetime | None


@dataclass(frozen=True, slots=True)
class AffectedClient:
    """One client for which a changed catalogue changes what is possible, by kind."""

    client_id: str
    client_name: str
    kind: AccessKind
    comparison: Comparison


@dataclass(frozen=True, slots=True)
class ResourceChange:
    """What publishing a catalogue over the one that stands would do. `before` is None where nothing stands yet.

    Attributes:
        blocking: permissions that would go though somebody holds, asks or bundles them, each with who.
        kept: the new catalogue without what would let a holder do more than was consented to. `wider`: that, in words;
            `lighter`: whether something would weigh less. `waits`: that it waits for an approver; empty: nothing does.
    """

    before: Catalogue | None
    after: Catalogue
    operations_added: frozenset[str]
    operations_gone: frozenset[str]
    operations_changed: frozenset[str]
    permissions_added: frozenset[str]
    permissions_gone: frozenset[str]
    permissions_changed: frozenset[str]
    affected: tuple[AffectedClient, ...]
    untouched: int
    blocking: dict[str, tuple[str, ...]] = field(default_factory=dict)
    kept: Catalogue | None = None
    wider: tuple[str, ...] = ()
    lighter: bool = False
    waits: str = ""


def publish(
    act: Act,
    catalogue: Catalogue,
    *,
    guard_client_id: str | None = None,
    questions: Sequence[str] = (),
    terms: str = "",
) -> ResourceChange:
    """Publish a resource, or put another catalogue in place of the one it has. Its short name never changes.

    Args:
        guard_client_id: the client whose reports of use are believed; None leaves the one that is named.

    Raises:
        BadInput: an unfit name or identifier. NameTaken: another resource has the identifier.
        StillInUse: a permission would go that is held, asked or bundled in a role; who is named.
    """
    _check_names(catalogue)
    with act.change() as unit:
        take_turn(unit)
        row = resources.by_name(unit.session, act.directory.id, catalogue.name, lock=True)
        if row is not None and row.name != catalogue.name:
            raise BadInput.field("name", catalogue.name, "the short name of the resource, not its identifier")
        if guard_client_id is not None:
            find_client(unit.session, act.directory, guard_client_id)
        act.expect(f"The resource {catalogue.name}", lambda: _version(unit.session, row))
        if row is not None and row.identifier != catalogue.identifier:
            raise Unsuited.field(
                "identifier",
                catalogue.identifier,
                f"{row.identifier}, as it is: what guards and tokens name it by",
                "It is for life. Publish another resource under the new one.",
            )
        change = change_in(unit.session, row, catalogue, act.now)
        if change.blocking:
            raise _blocked(change)
        said = [question.strip() for question in questions if question.strip()], terms.strip()
        if row is None:
            row = resources.ResourceRow(
                id=uuid4(),
                directory_id=act.directory.id,
                name=catalogue.name,
                title=catalogue.title,
                identifier=catalogue.identifier,
                object_name=catalogue.object_name,
                guard_client_id=guard_client_id,
            )
            row.questions, row.terms = said
            with unit.constraint("resource_identifier_taken", lambda: _taken(catalogue.identifier)):
                unit.session.add(row)
            resources.add_catalogue(unit.session, row.id, catalogue)
            _enter(unit, row, change, (), None)
            return change
        waits = _replace(unit, row, change, guard_client_id, said)
    return replace(change, waits=_kept_waiting(act, waits))


def _replace(
    unit: Unit,
    row: resources.ResourceRow,
    change: ResourceChange,
    guard_client_id: str | None,
    said: tuple[list[str], str],
) -> NeedsAgreement | None:
    """Put a catalogue in place of the one a resource has; return what of it waits for an approver, if anything."""
    assert change.before is not None
    _refuse_unbinding(unit.session, row, change.after, unit.now)
    guard = guard_client_id or row.guard_client_id
    wider = change.wider
    if row.guard_client_id is not None and guard != row.guard_client_id:
        wider = (*wider, "its guard would be another client")
    put, waits, agreed, digest = change.after, None, False, None
    if wider and unit.actor.kind != "service":
        bench = Bench(unit.session, unit.directory, unit.now)
        wanted = _wider_proposal(bench, row, change, wider, guard, said, unit.actor, unit.now)
        yeses, digest = agreed_by(unit, bench, wanted), wanted.digest()
        agreed = bool(yeses)
        if agreed:
            alone = frozenset(yeses) <= bench.controllers([unit.actor.id])
            for one in change.affected:
                note_addition(unit, one.client_id, "catalogue", one.comparison.added_weight, alone=alone)
        else:
            put, guard = change.kept or change.before, row.guard_client_id
            waits = try_waiting(unit.session, bench, wanted, unit.actor, unit.now)
    withdrawn = requests.supersede(unit.session, unit.directory.id, ActKind.CATALOGUE.value, row.name, unit.now, digest)
    before = {"identifier": row.identifier, "revision": row.revision}
    same = put == change.before and (row.questions, row.terms, row.guard_client_id) == (*said, guard)
    if not same or withdrawn or waits is None:
        if put != change.before:
            earlier_catalogues.keep_catalogue(unit.session, row, change.before, unit.now, agreed=agreed)
            resources.replace_catalogue(unit.session, row, put)
        row.questions, row.terms = said
        row.guard_client_id = guard
        unit.session.add(row)
        _enter(unit, row, change, wider, before)
    return waits


def _kept_waiting(act: Act, waits: NeedsAgreement | None) -> str:
    """Keep at the consent desk what waits; return in words that it does, and who can agree."""
    if waits is None:
        return ""
    if waits.waits is not None:
        waits = keep_waiting(act.backend.engine, act.backend.sealer, act.directory, waits)
    return f"{waits.message} {waits.next_step}".strip()


def _enter(
    unit: Unit, row: resources.ResourceRow, change: ResourceChange, wider: Sequence[str], before: dict[str, Any] | None
) -> None:
    subject = {"kind": "resource", "id": str(row.id), "name": row.name}
    after = _record(row, change)
    if before is not None:
        after["kept"] = "within what was consented to"
    if wider:
        after["takes an approver"] = list(wider)
    action = "resource.published" if before is None else "resource.changed"
    unit.enter(action, subject, before=before, after=after)


def _wider_proposal(
    bench: Bench,
    row: resources.ResourceRow,
    change: ResourceChange,
    wider: Sequence[str],
    guard: str | None,
    said: tuple[list[str], str],
    actor: Actor,
    now: datetime,
) -> Proposal:
    """Return the decision that an approver is asked for: all of it that lets somebody do more than was consented to."""
    policy = bench.directory.policy
    mine = bench.controllers([actor.id])
    heaviest = max(
        (
            one.comparison.added_weight + earlier(bench, one.client_id, actor, mine, now).alone
            for one in change.affected
            if one.comparison.added_weight > 0
        ),
        default=0.0,
    )
    heaviest = max(heaviest, _for_people(bench, row, change, actor))
    if change.lighter or len(wider) > len(change.wider):
        # What weighs less lets everybody consent to more of it alone, and a guard is believed: never for one person.
        heaviest = max(heaviest, policy.two_people_weight)
    questions, terms = said
    args = {
        "name": change.after.name,
        "catalogue": earlier_catalogues.catalogue_document(change.after),
        "guard": guard,
        "questions": questions,
        "terms": terms,
    }
    gainers = [one.client_name for one in change.affected if one.comparison.newly or one.comparison.wider]
    why = f"{change.after.name} would open more than was consented to{_whom(gainers)}: {'; '.join(wider[:5])}."
    return Proposal(
        ActKind.CATALOGUE, None, change.after.name, args, round(heaviest, 1), max(1, agreeing(heaviest, policy)), why
    )


def _for_people(bench: Bench, row: resources.ResourceRow, change: ResourceChange, actor: Actor) -> float:
    """Return the most that a changed catalogue adds to a role of the resource, or to whoever changes it."""
    assert change.before is not None
    held = [
        frozenset(Holding(name) for name in role.permissions)
        for role in roles.roles_of(bench.session, bench.directory.id)
        if role.resource_id == row.id
    ]
    held.append(bench.power_of(actor.id).get(row.id, frozenset()))
    place = bench.places[row.id]
    found = [across(change.before, change.after, rows, place.tree_of(rows)) for rows in held if rows]
    return max((one.added_weight for one in found if one is not None), default=0.0)


def _whom(names: Sequence[str]) -> str:
    return f" for {', '.join(names[:3])}{' and others' if len(names) > 3 else ''}" if names else ""


def preview(act: Act, catalogue: Catalogue) -> ResourceChange:
    """Return what publishing this catalogue would do: what changes, and for whom what becomes possible or stops."""
    _check_names(catalogue)
    with act.read() as session:
        return change_in(session, resources.by_name(session, act.directory.id, catalogue.name), catalogue, act.now)


def draft(document: Any, data_class: DataClass) -> tuple[tuple[Operation, ...], tuple[Permission, ...]]:
    """Return operations and permissions as an OpenAPI 3.1 document has them, to be corrected and published."""
    operations = operations_of(document, data_class)
    return operations, permissions_of(document, operations)


def list_resources(
    act: Act, query: str = "", after: str | None = None, limit: int = 50
) -> tuple[list[PublishedResource], str | None, int]:
    """Return a page of resources by name, the name of its last one when there are more, and how many are found in all.

    Args:
        query: part of a name, title or identifier.
    """
    with act.read() as session:
        rows, total = resources.resources_page(session, act.directory.id, query, after, limit + 1)
        shown = rows[:limit]
        found = resources.catalogues(session, shown)
        counts = resources.collection_counts(session, act.directory.id)
        views = [_view(row, found[row.id], counts.get(row.id, 0)) for row in shown]
        return views, shown[-1].name if len(rows) > limit else None, total


def read_resource(act: Act, name: str) -> PublishedResource:
    with act.read() as session:
        row = find_resource(session, act.directory, name)
        counts = resources.collection_counts(session, act.directory.id)
        return _view(row, resources.catalogues(session, [row])[row.id], counts.get(row.id, 0))


def set_address(act: Act, name: str, url: str) -> str:
    """Say where a resource answers, for probes. Raises `BadInput` for what is no web address."""
    try:
        queried = bool(url) and bool(read_address(url).query)
    except UnfitAddress as error:
        allowed = f"an address as https://berths.port.example, or nothing; {error}"
        raise BadInput.field("url", url, allowed) from error
    if queried:
        raise BadInput.field("url", url, "an address without a query: operations are called below it")
    with act.change() as unit:
        row = find_resource(unit.session, act.directory, name, lock=True)
        act.expect(f"The resource {row.name}", lambda: _version(unit.session, row))
        before, row.address = row.address, url.rstrip("/")
        unit.session.add(row)
        subject = {"kind": "resource", "id": str(row.id), "name": row.name}
        unit.enter("resource.addressed", subject, before={"answers at": before}, after={"answers at": row.address})
        return row.address


def _version(session: Session, row: resources.ResourceRow | None) -> str:
    if row is None:
        return ""
    catalogue = resources.catalogues(session, [row])[row.id]
    return wire.resource_of(catalogue, row.questions, row.terms, row.guard_client_id, row.address).version


def read_collections(act: Act, name: str) -> tuple[PublishedResource, CollectionTree]:
    with act.read() as session:
        row = find_resource(session, act.directory, name)
        tree = resources.collections_of(session, row.id)
        return _view(row, resources.catalogues(session, [row])[row.id], len(tree.collections)), tree


def replace_collections(act: Act, name: str, tree: CollectionTree) -> str:
    """Put these collections in place of those that a resource has. Guards hear of it within seconds.

    Objects that somebody would reach beyond what was consented to wait for an approver; the answer says so, if any do.

    Raises:
        BadInput: the resource has no objects. StillInUse: a collection would go that a reach names; who is named.
    """
    waits: NeedsAgreement | None = None
    with act.change() as unit:
        take_turn(unit)
        row = find_resource(unit.session, act.directory, name, lock=True)
        if row.name == own_api.NAME or not row.object_name:
            sent = f"{len(tree.collections)} collections"
            allowed = f"none: {row.name} does not say what its objects are called"
            raise Unsuited.field("collections", sent, allowed, "Publish it with an object name first.")
        before = resources.collections_of(unit.session, row.id)
        act.expect(
            f"The collections of {row.title}",
            lambda: reach_wire.collections_answer(row.name, row.object_name, before).version,
        )
        gone = before.collections.keys() - tree.collections.keys()
        bounded = clients.bounded_at(unit.session, row.id, act.now) + roles.bounded_at(unit.session, row.id, act.now)
        naming = sorted({name for name, reach in bounded if reach.collections & gone})
        if naming:
            raise StillInUse(
                f"A collection that would go is named by the reach of {', '.join(naming[:6])}.",
                violations=(Violation("collections", ", ".join(sorted(gone)), "what no reach names"),),
                next_step="Change those reaches first, or keep the collection.",
            )
        if before == tree:
            return ""
        bench = Bench(unit.session, act.directory, act.now)
        put, agreed, digest = tree, False, None
        kept = kept_within_reach(before, tree, _named_at(unit.session, row.id, act.now))
        if kept != tree:
            wanted, gains = _refilling(bench, row, before, kept, tree, act.actor, act.now)
            yeses, digest = agreed_by(unit, bench, wanted), wanted.digest()
            agreed = act.actor.kind == "service" or bool(yeses)
            if agreed:
                alone = frozenset(yeses) <= bench.controllers([act.actor.id])
                for client_id, weight in gains.items():
                    note_addition(unit, client_id, "collections", weight, alone=alone)
            else:
                put = kept
                waits = try_waiting(unit.session, bench, wanted, act.actor, act.now)
        withdrawn = requests.supersede(
            unit.session, act.directory.id, ActKind.COLLECTIONS.value, row.name, act.now, digest
        )
        if put != before or withdrawn:
            earlier_catalogues.keep_collections(unit.session, row, before, act.now, agreed=agreed)
            resources.replace_collections(unit.session, row.id, put)
            moved = {
                path
                for path in before.collections.keys() & put.collections.keys()
                if before.members(path) != put.members(path)
            }
            unit.enter(
                "collections.replaced",
                {"kind": "resource", "id": str(row.id), "name": row.name},
                before={"collections": len(before.collections), "objects": len(before.everything)},
                after={
                    "collections": len(put.collections),
                    "objects": len(put.everything),
                    "added": sorted(put.collections.keys() - before.collections.keys()),
                    "gone": sorted(gone),
                    "other objects": sorted(moved),
                    "kept": "within what was consented to",
                },
            )
    return _kept_waiting(act, waits)


def _named_at(session: Session, resource_id: UUID, now: datetime) -> list[Reach]:
    """Return each bounded reach that somebody holds at a resource: clients by consent, anybody by a role."""
    found = [reach for _, reach in roles.bounded_at(session, resource_id, now)]
    return found + clients.bounded_consents(session, resource_id, now)


def _refilling(
    bench: Bench,
    row: resources.ResourceRow,
    before: CollectionTree,
    kept: CollectionTree,
    after: CollectionTree,
    actor: Actor,
    now: datetime,
) -> tuple[Proposal, dict[str, float]]:
    """Return the decision that an approver is asked for, and by how much each client would reach further."""
    catalogue, session = bench.places[row.id].catalogue, bench.session
    mine, names = bench.controllers([actor.id]), []
    gains: dict[str, float] = {}
    heaviest = refilled(catalogue, bench.power_of(actor.id).get(row.id, frozenset()), before, after)
    holding = clients.holding_at(session, row.id)
    by_role = roles.roles_of_clients(session, [client.id for client in holding])
    grants = clients.grants_by_client(session, [client.id for client in holding])
    for client in holding:
        held = pictures.held_at(row.id, grants.get(client.id, ()), by_role.get(client.id, ()))
        weight = sum(refilled(catalogue, holdings_in_force(held, kind, now), before, after) for kind in AccessKind)
        if weight:
            names.append(client.name)
            gains[client.id] = weight
            heaviest = max(heaviest, weight + earlier(bench, client.id, actor, mine, now).alone)
    moved = sorted(
        path
        for path in after.collections
        if after.members(path) != kept.members(path) or after.collections[path].rule != kept.collections[path].rule
    )
    why = f"What was consented to at {row.name} would reach other objects{_whom(names)}, in {', '.join(moved[:5])}."
    args = {"name": row.name, **earlier_catalogues.collections_document(after)}
    needed = max(1, agreeing(heaviest, bench.directory.policy))
    return Proposal(ActKind.COLLECTIONS, None, row.name, args, round(heaviest, 1), needed, why), gains


@dataclass(frozen=True, slots=True)
class ProposedPermissions:
    catalogue: Catalogue
    needed: tuple[str, ...]
    held: tuple[str, ...]
    proposal: ProposedSet


def propose(act: Act, name: str, needed: Sequence[str], kind: AccessKind, client_id: str | None) -> ProposedPermissions:
    """Return the smallest permissions for operations of a resource, beside what a client asks or holds already.

    Raises:
        BadInput: an operation that the resource does not have.
    """
    with act.read() as session:
        row = find_resource(session, act.directory, name)
        catalogue = resources.catalogues(session, [row])[row.id]
        needed = [as_written(one, catalogue.operations) for one in needed]
        unknown = [name for name in needed if name not in catalogue.operations]
        if unknown:
            allowed = f"operations of {catalogue.name}: {listed(catalogue.operations)}"
            raise NotFound(
                f"{catalogue.name} has no operation {shorten(', '.join(unknown))}.",
                violations=(
                    Violation(
                        "operation",
                        shorten(", ".join(unknown)),
                        allowed,
                        did_you_mean(unknown[0], catalogue.operations, "Look through the catalogue."),
                    ),
                ),
            )
        held: set[str] = set()
        if client_id is not None:
            client = find_client(session, act.directory, client_id)
            mine: list[clients.AskRow | clients.GrantRow] = [*clients.asks_of(session, [client.id])]
            mine += clients.grants_of(session, [client.id])
            held = {one.permission for one in mine if one.resource_id == row.id and one.kind == kind}
        proposal = smallest(catalogue, needed, kind, held)
        return ProposedPermissions(catalogue, tuple(sorted(set(needed))), tuple(sorted(held)), proposal)


def change_in(session: Session, row: resources.ResourceRow | None, after: Catalogue, now: datetime) -> ResourceChange:
    """Return what a catalogue would change in place of the one a resource has, and for whom."""
    if row is None:
        none = frozenset[str]()
        added, given = frozenset(after.operations), frozenset(after.permissions)
        return ResourceChange(None, after, added, none, none, given, none, none, (), 0)
    before = resources.catalogues(session, [row])[row.id]
    tree = resources.collections_of(session, row.id)
    gone = before.permissions.keys() - after.permissions.keys()
    affected, untouched = [], 0
    holding = clients.holding_at(session, row.id)
    by_role = roles.roles_of_clients(session, [client.id for client in holding])
    grants = clients.grants_by_client(session, [client.id for client in holding])
    for client in holding:
        held = pictures.held_at(row.id, grants.get(client.id, ()), by_role.get(client.id, ()))
        touched = False
        for kind in AccessKind:
            comparison = across(before, after, holdings_in_force(held, kind, now), tree)
            if comparison is not None:
                affected.append(AffectedClient(client.id, client.name, kind, comparison))
                touched = True
        untouched += not touched
    blocking = {name: tuple(who) for name, who in _holders_of(session, row, gone, now).items()}
    names = clients.held_permissions(session, row.id, now)
    names |= {
        name
        for role in roles.roles_of(session, row.directory_id)
        if role.resource_id == row.id
        for name in role.permissions
    }
    kept = after if blocking else kept_within(before, after, names)
    wider, lighter = _beyond(before, kept, after)
    return ResourceChange(
        before,
        after,
        frozenset(after.operations.keys() - before.operations.keys()),
        frozenset(before.operations.keys() - after.operations.keys()),
        frozenset(name for name, item in after.operations.items() if before.operations.get(name, item) != item),
        frozenset(after.permissions.keys() - before.permissions.keys()),
        frozenset(gone),
        frozenset(name for name, item in after.permissions.items() if before.permissions.get(name, item) != item),
        tuple(sorted(affected, key=lambda one: (-one.comparison.added_weight, one.client_name, one.kind))),
        untouched,
        blocking,
        kept,
        wider,
        lighter,
    )


def _beyond(before: Catalogue, kept: Catalogue, after: Catalogue) -> tuple[tuple[str, ...], bool]:
    """Return, in words, what of a change is not kept within what was consented to, and whether something is lighter."""
    words, lighter = [], False
    for name, item in sorted(after.permissions.items()):
        known = kept.permissions.get(name)
        if known is None or known == item:
            continue
        more = sorted(after.opened_by(name) - kept.opened_by(name))
        implied = sorted(after.closure(name) - kept.closure(name))
        if implied:
            words.append(f"{name} would imply {', '.join(implied)}")
        if more:
            words.append(f"{name} would open {', '.join(more)}")
        if known.consent_by is not item.consent_by:
            words.append(f"people could consent to {name} themselves")
    for name, operation in sorted(after.operations.items()):
        if name not in kept.operations or kept.operations[name] == operation:
            continue
        if weigh_operation(operation) < weigh_operation(before.operations[name]):
            lighter = True
            words.append(f"{name} would weigh less")
        else:
            words.append(f"{name} would no longer be bounded by reach")
    if not words and kept != after:
        words.append("granted permissions would open other things altogether")
    return tuple(words), lighter


def _holders_of(session: Session, row: resources.ResourceRow, gone: Any, now: datetime) -> dict[str, list[str]]:
    """Return who holds, asks or bundles each of the permissions that would go."""
    found: dict[str, list[str]] = {}
    if not gone:
        return found
    for permission, name in clients.standing_on(session, row.id, gone, now):
        found.setdefault(permission, []).append(name)
    for role in roles.roles_of(session, row.directory_id):
        if role.resource_id == row.id:
            for permission in set(role.permissions) & set(gone):
                found.setdefault(permission, []).append(f"the role {role.name}")
    return found


def _blocked(change: ResourceChange) -> StillInUse:
    violations = tuple(
        Violation(f"permissions.{name}", "left out", f"kept while it stands with {', '.join(who[:5])}")
        for name, who in sorted(change.blocking.items())
    )
    return StillInUse(
        f"{', '.join(sorted(change.blocking))}: somebody still stands on it.",
        violations=violations,
        next_step="Withdraw those consents, drop those asks or change those roles first.",
    )


def _refuse_unbinding(session: Session, row: resources.ResourceRow, after: Catalogue, now: datetime) -> None:
    """Raise `StillInUse` where objects would be called otherwise though reach counts: it would bound nothing then."""
    if not row.object_name or row.object_name == after.object_name:
        return
    bounded = clients.bounded_at(session, row.id, now) + roles.bounded_at(session, row.id, now)
    names = sorted({name for name, _ in bounded})
    if names:
        raise StillInUse(
            f"The reach of {', '.join(names[:6])} is about each {row.object_name}, and would bound nothing.",
            violations=(Violation("object_name", after.object_name or "nothing", f"{row.object_name}, as it is"),),
            next_step="Keep the object name, or withdraw what is bounded first.",
        )


def _identifier_fault(identifier: str) -> str:
    """RFC 8707 section 2: an absolute URI without a fragment."""
    try:
        parts = split(identifier)
    except UnfitAddress as error:
        return str(error)
    if parts["fragment"] is not None:
        return "it has a fragment"
    if without_root(identifier) != identifier:
        # Tokens and guards compare letter by letter (RFC 9068 section 4): of two ways to write it one is kept.
        return f"write it without the slash at its end: {without_root(identifier)}"
    return "" if parts["authority"] or parts["path"] else "it names nothing"


def _check_names(catalogue: Catalogue) -> None:
    violations = []
    if len(catalogue.name) > NAME_LONGEST or not RESOURCE_NAME.match(catalogue.name):
        allowed = f"lower-case words joined by hyphens, at most {NAME_LONGEST} characters"
        violations.append(Violation("name", catalogue.name[:80], allowed))
    elif catalogue.name == own_api.NAME:
        violations.append(Violation("name", catalogue.name, "not Jamb's own API: it changes with Jamb alone"))
    fault = _identifier_fault(catalogue.identifier)
    if fault:
        allowed = f"an absolute URI without a fragment, as https://berths.port.example; {fault}"
        violations.append(Violation("identifier", shorten(catalogue.identifier), allowed))
    if not catalogue.permissions:
        violations.append(Violation("permissions", "none", "at least one permission"))
    if violations:
        raise BadInput("This resource cannot be published as it is.", violations=tuple(violations))


def _record(row: resources.ResourceRow, change: ResourceChange) -> dict[str, Any]:
    record: dict[str, Any] = {"identifier": row.identifier, "revision": row.revision}
    if change.before is None:
        return record | {
            "operations": sorted(change.after.operations),
            "permissions": sorted(change.after.permissions),
        }
    for name in ("operations", "permissions"):
        for what in ("added", "gone", "changed"):
            names = getattr(change, f"{name}_{what}")
            if names:
                record[f"{name} {what}"] = sorted(names)
    return record


def _view(row: resources.ResourceRow, catalogue: Catalogue, collections: int) -> PublishedResource:
    return PublishedResource(
        row.name,
        row.title,
        row.identifier,
        catalogue,
        tuple(row.questions),
        row.terms,
        row.guard_client_id,
        collections,
        row.address,
        row.uncounted_since,
        row.uncounted_until,
    )


def _taken(identifier: str) -> NameTaken:
    return NameTaken(
        f"Another resource has the identifier {identifier}.",
        violations=(Violation("identifier", identifier, "an identifier not in use"),),
    )
