"""Charters: write down what a client is, or would be if it held what it uses; compare a charter with what is here."""

from __future__ import annotations

from collections.abc import Container, Iterable, Mapping
from dataclasses import dataclass, replace
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID

from sqlmodel import Session

from jamb.actions.base.act import Act
from jamb.actions.base.lookups import check_reach, find_client, load_one
from jamb.actions.consent.asks import permission_faults
from jamb.actions.directory.groups import check_groups
from jamb.core.access import Comparison, Holding, compare, holdings_in_force
from jamb.core.audit.rightsizing import smaller_grant
from jamb.core.clients.clients import ClientKind, Registration, folded, registration
from jamb.core.consent.charter import (
    SAID,
    Charter,
    CharterAsk,
    CharterCredential,
    HeldCredential,
    Place,
    Standing,
    Step,
    steps,
)
from jamb.core.credentials.kinds import CredentialKind
from jamb.core.credentials.term import longest_days
from jamb.core.directory.directories import Directory
from jamb.core.errors import BadInput, Forbidden, Unsuited, Violation
from jamb.core.permissions import AccessKind, Catalogue
from jamb.core.reach import CollectionTree, Reach
from jamb.core.reach.details import reach_of
from jamb.store.audit.client_facts import LoadedClient, held_at
from jamb.store.clients import clients
from jamb.store.credentials.credentials import CredentialRow
from jamb.store.directory.roles import AssignmentRow, RoleRow
from jamb.store.resources import resources


@dataclass(frozen=True, slots=True)
class Written:
    """A charter of a client. `rightsized`: resources at which it declares less than is held."""

    client_id: str
    directory: str
    at: datetime
    charter: Charter
    rightsized: tuple[str, ...]


@dataclass(frozen=True, slots=True)
class Effect:
    """What following a charter would make possible, and no longer, at one resource in one kind."""

    resource: str
    kind: AccessKind
    comparison: Comparison


@dataclass(frozen=True, slots=True)
class Compared:
    """`client_id` None: no client of this name is here. No steps: it is as the charter says."""

    client_id: str | None
    client_name: str
    steps: tuple[Step, ...]
    effects: tuple[Effect, ...]


@dataclass(frozen=True, slots=True)
class _Places:
    """The resources of a directory."""

    rows: Mapping[UUID, resources.ResourceRow]
    catalogues: Mapping[UUID, Catalogue]
    trees: Mapping[UUID, CollectionTree]

    def named(self, name: str) -> resources.ResourceRow | None:
        return next((row for row in self.rows.values() if name in {row.name, row.identifier}), None)


def write_charter(act: Act, client_id: str, *, rightsized: bool) -> Written:
    """Return the charter that a client follows as it stands.

    Args:
        rightsized: with the smallest grants that fit its use instead of what it holds, where something smaller is
        known.
    """
    with act.read() as session:
        row = find_client(session, act.directory, client_id)
        loaded = load_one(session, act.directory, row, act.now)
        places = _places(session, act.directory)
        standing, reasons = _standing(loaded, places, act.now), _reasons(loaded, places)
        # What fits its use gives nothing that is not held: what is only asked for is not in it.
        declared = {} if rightsized else {**standing.asked}
        for place, held in standing.granted.items():
            declared[place] = {**declared.get(place, {}), **held}
        less = []
        for picture in loaded.picture.resources if rightsized else ():
            smaller = smaller_grant(picture, act.directory.policy, act.now)
            if smaller is None:
                continue
            place = (smaller.resource, AccessKind.APPLICATION)
            replaced = {one.permission for one in smaller.held}
            kept = {name: reach for name, reach in declared.get(place, {}).items() if name not in replaced}
            declared[place] = {**kept, **dict.fromkeys(smaller.permissions, smaller.reach)}
            less.append(smaller.resource)
        asks = tuple(
            CharterAsk(resource, name, kind, reach, reasons.get((resource, kind, name), ""))
            for (resource, kind), held in sorted(declared.items())
            for name, reach in sorted(held.items())
        )
        charter = Charter(
            name=row.name,
            kind=ClientKind(row.kind),
            asks=asks,
            credential=_credential(act.directory, loaded, act.now),
            **_said(Registration.of(row)),
        )
        return Written(row.id, act.directory.name, act.now, charter, tuple(less))


def compare_charter(act: Act, charter: Charter, only: Container[str] | None) -> Compared:
    """Return what differs between a charter and the client of its name, and what following it would do.

    Args:
        only: the clients that the caller may see; None: all.

    Raises:
        BadInput: it names what this directory does not have, or could not have. Forbidden: the client is not theirs.
    """
    with act.read() as session:
        places = _places(session, act.directory)
        charter = _acceptable(session, act.directory, places, charter)
        row = clients.by_name(session, act.directory.id, folded(charter.name))
        if row is None:
            return Compared(None, charter.name, steps(charter, None), _effects(charter, {}, (), places, act.now))
        if only is not None and row.id not in only:
            raise Forbidden(
                f"“{row.name}” is a client here, and not yours.",
                next_step="Ask its owner, or give the charter another name.",
            )
        loaded = load_one(session, act.directory, row, act.now)
        standing = _standing(loaded, places, act.now)
        effects = _effects(charter, standing.granted, loaded.roles, places, act.now)
        return Compared(row.id, row.name, steps(charter, standing), effects)


def _acceptable(session: Session, directory: Directory, places: _Places, charter: Charter) -> Charter:
    """Return the charter with resources by their short names, or raise `BadInput` with all that cannot be here."""
    found: list[Violation] = []
    try:
        said = registration(charter.name, kind=charter.kind, **_said(charter))
        charter = replace(charter, name=said.name, **_said(said))
    except BadInput as error:
        found += error.violations
    try:
        check_groups(session, directory, charter.sign_in_groups)
    except BadInput as error:
        found += error.violations
    asks, seen = [], set()
    for number, one in enumerate(charter.asks):
        row = places.named(one.resource)
        at = f"asks.{number}"
        if row is None:
            known = ", ".join(sorted(place.name for place in places.rows.values()))
            found.append(Violation(f"{at}.resource", one.resource, f"a resource of {directory.name}: {known}"))
            continue
        ask = replace(one, resource=row.name)
        asks.append(ask)
        found += _faults(session, places, row, ask, at)
        if (ask.place, ask.permission) in seen:
            found.append(Violation(f"{at}.permission", one.permission, "each permission once", "Leave out the second."))
        seen.add((ask.place, ask.permission))
    wanted = charter.credential
    if wanted is not None and wanted.days is not None:
        longest = longest_days(directory.policy, wanted.kind)
        if not 1 <= wanted.days <= longest:
            found.append(Violation("credential.days", str(wanted.days), f"1 to {longest} in {directory.name}"))
    if found:
        raise Unsuited(f"This charter cannot be followed in {directory.name}.", violations=tuple(found))
    return replace(charter, asks=tuple(asks))


def _faults(
    session: Session, places: _Places, row: resources.ResourceRow, ask: CharterAsk, at: str
) -> Iterable[Violation]:
    yield from permission_faults(places.catalogues[row.id], ask.permission, ask.kind, f"{at}.permission", f"{at}.kind")
    try:
        check_reach(session, row, ask.reach)
    except BadInput as error:
        for violation in error.violations:
            yield replace(violation, field=f"{at}.{violation.field}")


def _places(session: Session, directory: Directory) -> _Places:
    rows = {row.id: row for row in resources.resources_of(session, directory.id)}
    return _Places(rows, resources.catalogues(session, rows.values()), resources.trees(session, rows.values()))


def _standing(loaded: LoadedClient, places: _Places, now: datetime) -> Standing:
    asked: dict[Place, dict[str, Reach]] = {}
    for ask in loaded.asks:
        place = (places.rows[ask.resource_id].name, AccessKind(ask.kind))
        asked.setdefault(place, {})[ask.permission] = reach_of(ask.reach)
    granted: dict[Place, dict[str, Reach]] = {}
    for grant in loaded.grants:
        if grant.person_id is None and grant.stands(now):
            place = (places.rows[grant.resource_id].name, AccessKind(grant.kind))
            granted.setdefault(place, {})[grant.permission] = reach_of(grant.reach)
    row = loaded.row
    return Standing(
        kind=ClientKind(row.kind),
        asked=asked,
        granted=granted,
        credentials=tuple(
            HeldCredential(CredentialKind(one.kind), f"the {CredentialKind(one.kind).words} {one.hint}", _life(one))
            for one in _working(loaded, now)
        ),
        **_said(Registration.of(row)),
    )


def _said(held: Registration | Charter) -> dict[str, Any]:
    """Return what a registration or charter says beside name and kind, by name."""
    return {name: getattr(held, name) for name in SAID}


def _reasons(loaded: LoadedClient, places: _Places) -> dict[tuple[str, AccessKind, str], str]:
    return {
        (places.rows[ask.resource_id].name, AccessKind(ask.kind), ask.permission): ask.reason for ask in loaded.asks
    }


def _effects(
    charter: Charter,
    granted: Mapping[Place, Mapping[str, Reach]],
    by_role: Iterable[tuple[AssignmentRow, RoleRow]],
    places: _Places,
    now: datetime,
) -> tuple[Effect, ...]:
    declared: dict[Place, set[Holding]] = {}
    for ask in charter.asks:
        declared.setdefault(ask.place, set()).add(Holding(ask.permission, ask.reach))
    found = []
    for place in sorted(declared.keys() | granted.keys()):
        row = places.named(place[0])
        assert row is not None
        held = {Holding(name, reach) for name, reach in granted.get(place, {}).items()}
        # Roles are left as they are.
        roles_too = holdings_in_force(held_at(row.id, (), by_role), place[1], now)
        comparison = compare(
            places.catalogues[row.id], held | roles_too, declared.get(place, set()) | roles_too, places.trees[row.id]
        )
        if comparison.newly or comparison.wider or comparison.narrower or comparison.no_longer:
            found.append(Effect(place[0], place[1], comparison))
    return tuple(found)


def _credential(directory: Directory, loaded: LoadedClient, now: datetime) -> CharterCredential | None:
    """Return how a client proves itself: as by its newest credential, for as long as any of that kind lives.

    No longer than the policy allows, though: a charter is to be followed.
    """
    working = _working(loaded, now)
    if not working:
        return None
    kind = CredentialKind(max(working, key=lambda one: one.issued_at).kind)
    longest = longest_days(directory.policy, kind)
    lives = [_life(one) for one in working if one.kind == kind]
    days = [longest if life is None else round(life / timedelta(days=1)) for life in lives]
    return CharterCredential(kind, max(1, min(longest, max(days))))


def _working(loaded: LoadedClient, now: datetime) -> list[CredentialRow]:
    return [
        credential for credential in loaded.credentials if credential.stands(now) and credential.disabled_at is None
    ]


def _life(one: CredentialRow) -> timedelta | None:
    return None if one.expires_at is None else one.expires_at - (one.starts_at or one.issued_at)
