"""Somebody signs in by an outside provider: whom it means, and in which groups they are by what it says."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from typing import Any
from uuid import UUID, uuid4

from sqlmodel import Session

from jamb.actions.base.backend import Backend
from jamb.actions.base.lookups import find_directory, refuse_stewardless, refuse_suspended
from jamb.actions.entry.sessions import SignedIn, Visitor, opened
from jamb.core.directory.providers import Claimed, Refused, read_claims
from jamb.core.errors import BadInput, StillInUse
from jamb.store.base.work import Actor, Unit, observation
from jamb.store.directory import people, providers, roles


@dataclass(frozen=True, slots=True)
class Provided:
    """Whom a provider means. `added`: they are new here. `joins`, `leaves`: groups, by what it says."""

    person: people.PersonRow
    added: bool
    joins: tuple[str, ...]
    leaves: tuple[str, ...]
    second_factor: bool


def sign_in(
    backend: Backend, slug: str, provider_id: UUID, claims: Mapping[str, Any], visitor: Visitor, now: datetime
) -> SignedIn | Refused:
    """Open a console session for whom a provider's ID token means; its signature and times were looked at before."""
    with Session(backend.engine) as session:
        directory = find_directory(session, slug)
        refuse_suspended(directory)
        row = session.get(providers.ProviderRow, provider_id)
        if row is None or row.directory_id != directory.id:
            return Refused.LATE
        actor = Actor("provider", row.name, row.title, row.issuer)
        subject, name = str(claims.get("sub", "")), row.name
        known = providers.linked(session, row.id, subject)
    with backend.change(directory, actor, now) as unit:
        found = _meant(unit, provider_id, claims, known)
        if isinstance(found, Refused):
            return found
        person_id, factor = found.person.id, found.second_factor
    # That somebody signs in is no change of the records.
    with observation(backend.engine) as session:
        # Whoever ends the link, or removes the provider, waits for this and ends what came of it.
        person = people.held_still(session, person_id)
        if providers.still_linked(session, provider_id, subject) != person_id:
            return Refused.LATE
        if person is None or not person.active:
            return Refused.INACTIVE
        return opened(session, backend, person, visitor, now, second_factor=factor, provider=name)


def _meant(unit: Unit, provider_id: UUID, claims: Mapping[str, Any], known: UUID | None) -> Provided | Refused:
    if known is not None:
        # One sign-in of a person after the other: each sees what the one before did to their groups.
        unit.session.get_one(people.PersonRow, known, with_for_update=True)
    # Of two who come the first time at once, the second sees whom the first is linked to.
    row = unit.session.get(providers.ProviderRow, provider_id, with_for_update=known is None)
    if row is None or (known is not None and providers.linked(unit.session, row.id, str(claims["sub"])) != known):
        return Refused.LATE
    try:
        return person_of(unit, row, claims)
    except BadInput:
        return Refused.FAILED


def person_of(unit: Unit, row: providers.ProviderRow, claims: Mapping[str, Any]) -> Provided | Refused:
    """Return whom these claims mean, within a unit: linked, added and put into groups as the provider has it.

    Raises:
        BadInput: they name nobody.
    """
    said = read_claims(row.value(), claims)
    key = providers.linked(unit.session, row.id, said.subject)
    if key is not None:
        person, added = unit.session.get_one(people.PersonRow, key), False
    else:
        found = _by_mail(unit, row, said)
        if isinstance(found, Refused):
            return found
        person, added = found
    if not person.active:
        return Refused.INACTIVE
    joins, leaves = _move(unit, row, person, said)
    return Provided(person, added, joins, leaves, said.second_factor)


def _by_mail(unit: Unit, row: providers.ProviderRow, said: Claimed) -> tuple[people.PersonRow, bool] | Refused:
    """Return who has the verified mail address as their login, or somebody new of it; linked from now on."""
    if not said.email:
        return Refused.UNKNOWN
    person = people.by_login(unit.session, row.directory_id, said.email)
    if person is not None and providers.has_link(unit.session, row.id, person.id):
        # Addresses are given to others (Core section 5.7): who has one now is not whoever had it then.
        return Refused.LINKED
    added = person is None
    if person is None:
        if not row.adds_people:
            return Refused.UNKNOWN
        person = people.PersonRow(
            id=uuid4(), directory_id=row.directory_id, login=said.email, name=said.name, created_at=unit.now
        )
        unit.session.add(person)
        unit.session.flush()
        unit.enter("person.added", _subject(person), after={"login": person.login, "by": row.title})
    unit.session.add(
        providers.ProviderSubjectRow(provider_id=row.id, subject=said.subject, person_id=person.id, linked_at=unit.now)
    )
    unit.session.flush()
    unit.enter("person.changed", _subject(person), after={"signs in by": row.title})
    return person, added


def _move(
    unit: Unit, row: providers.ProviderRow, person: people.PersonRow, said: Claimed
) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Put a person into the groups that the provider decides about, and out of the others of these.

    Where the directory would be left without a steward, they stay in them.
    """
    decided = set(row.groups.values())
    mine = roles.direct_groups_of(unit.session, person.id)
    known = {group.name: group.id for group in roles.groups_of(unit.session, row.directory_id)} if decided else {}
    joins = tuple(sorted((said.inside - mine) & known.keys()))
    leaves = tuple(sorted((mine & decided) - said.inside))
    for name in joins:
        roles.put_in(unit.session, known[name], person.id)
    try:
        with unit.session.begin_nested():
            for name in leaves:
                roles.take_out(unit.session, known[name], person.id)
            if leaves:
                refuse_stewardless(unit.session, unit.directory, unit.now)
    except StillInUse:
        leaves = ()
    if joins or leaves:
        told = {name: list(groups) for name, groups in (("joins", joins), ("leaves", leaves)) if groups}
        unit.enter("person.changed", _subject(person), after={**told, "by": row.title})
    return joins, leaves


def _subject(person: people.PersonRow) -> dict[str, str]:
    return {"kind": "person", "id": str(person.id), "name": person.name}
